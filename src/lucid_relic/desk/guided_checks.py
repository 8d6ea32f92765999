"""The checks of an instrument, step by step: what is asked for, what was seen, and what it says of the instrument."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from lucid_relic.calibration.axis import check_axis
from lucid_relic.calibration.board import Board, SeenBoard, find_board
from lucid_relic.calibration.colour_card import check_card, check_sheet, read_card
from lucid_relic.calibration.guided import is_near, next_position, positions
from lucid_relic.calibration.lens import LensCheck, board_pose, check_lens
from lucid_relic.calibration.reference_piece import ReferencePiece
from lucid_relic.desk.checks import measured_piece
from lucid_relic.errors import StepNotPossible
from lucid_relic.operations.registry import get_operation
from lucid_relic.progress import Progress
from lucid_relic.types import Camera, Instrument, PassState, ScanState

PATIENCE = 12  # pictures one after the other without the board, or without getting nearer
AXIS_DEG = np.arange(8) * 45.0
SHEET_OFF = 0.006  # share by which a lens may differ from its sheet before somebody should look after it


@dataclass(frozen=True)
class Glance:
    """One picture (h, w) or (h, w, 3) of a check, the outline (4, 2) px where the board is wanted, words, and how far it is."""

    picture: np.ndarray
    outline: np.ndarray | None
    words: str
    done: int
    of: int


@dataclass(frozen=True)
class Verdict:
    """What a check says: ok, a sentence, and figures as plain JSON."""

    ok: bool
    words: str
    figures: dict[str, Any]


See = Callable[[Glance], None]


def board_check(look: Callable[[np.ndarray], np.ndarray], board: Board, sheet: Instrument, see: See) -> Verdict:
    """Ask for the board in one pose (4, 4) after the other, and tell the lens from all that were reached.

    Raises `StepNotPossible` when the board does not come into view, or is another one.
    """
    of = len(positions(board, sheet.camera))
    seen: list[SeenBoard] = []
    poses: list[np.ndarray] = []
    missed = 0
    while (wanted := next_position(board, sheet.camera, poses)) is not None:
        picture = look(wanted.pose)
        found = find_board(picture, board)
        reached = False
        if isinstance(found, SeenBoard):
            pose = board_pose(found, sheet.camera)
            reached = is_near(board, wanted.pose, pose)
            words = f"{len(seen) + 1} of {of}: {wanted.words}"
        else:
            words = found.why
        missed = 0 if reached else missed + 1
        if reached and isinstance(found, SeenBoard):
            seen.append(found)
            poses.append(pose)
        see(Glance(picture, wanted.outline(board, sheet.camera), words, len(seen), of))
        if missed > PATIENCE:
            raise StepNotPossible(words if not isinstance(found, SeenBoard) else f"The board was not brought there: {wanted.words}.")  # fmt: skip
    return _lens_verdict(check_lens(seen, sheet.camera.width, sheet.camera.height), sheet)


def _lens_verdict(found: LensCheck, sheet: Instrument) -> Verdict:
    c = found.camera
    off = c.fx / sheet.camera.fx - 1
    why = list(found.why)
    if abs(off) > SHEET_OFF:
        why.append(
            f"The lens is {abs(off):.1%} {'longer' if off > 0 else 'shorter'} than the sheet says: it was knocked or refocused. "
            "Have it adjusted before you measure with it."
        )
    figures = {
        "fx": c.fx, "fy": c.fy, "cx": c.cx, "cy": c.cy, "distortion": list(c.distortion), "rms_px": found.rms_px,
        "field": found.field, "focal_sd_px": found.focal_sd_px, "off_sheet": off,
    }  # fmt: skip
    good = f"Corners are off by {found.rms_px:.2f} pixels; {found.field:.0%} of the picture saw them."
    return Verdict(not why, " ".join(why) or good, figures)


def axis_check(look: Callable[[float], np.ndarray], board: Board, camera: Camera, see: See) -> Verdict:
    """The table's axis from the board on its plate, at eight stops; raises `StepNotPossible` when it is not seen."""
    seen, degrees = [], []
    for k, turn in enumerate(AXIS_DEG):
        picture = look(float(turn))
        found = find_board(picture, board)
        if isinstance(found, SeenBoard):
            seen.append(found)
            degrees.append(turn)
            words = f"Stop {k + 1} of {len(AXIS_DEG)}"
        else:
            words = found.why
        see(Glance(picture, None, words, k + 1, len(AXIS_DEG)))
        if not seen and k >= 2:
            raise StepNotPossible(words)
    told = check_axis(seen, np.array(degrees), camera)
    figures = {
        "point": told.point.tolist(), "direction": told.direction.tolist(), "rms_px": told.rms_px, "sd_mm": told.sd_mm,
        "sd_deg": told.sd_deg,
    }  # fmt: skip
    good = (
        f"The axis is known to {told.sd_mm:.3f} mm and {told.sd_deg:.3f}°; corners are off by {told.rms_px:.2f} pixels."
    )
    return Verdict(told.ok, " ".join(told.why) or good, figures)


def card_check(look: Callable[[], np.ndarray], see: See) -> Verdict:
    """The colour matrix from a photograph of the card; raises `StepNotPossible` when it cannot be read."""
    picture = look()
    see(Glance(picture, None, "Reading the card", 0, 1))
    told = check_card(read_card(picture))
    figures = {
        "matrix": told.matrix.tolist(), "before": float(told.before.mean()), "after": float(told.after.mean()),
        "worst": float(told.after.max()), "patches": told.after.tolist(), "exposure": told.exposure,
        "balance": told.balance.tolist(),
    }  # fmt: skip
    good = f"Colours are off by ΔE {figures['after']:.1f} on average after the card, {figures['before']:.1f} before it."
    return Verdict(told.ok, " ".join(told.why) or good, figures)


def sheet_check(look: Callable[[], np.ndarray], see: See) -> Verdict:
    """White balance and exposure from a sheet of white paper; raises `StepNotPossible` when there is none."""
    picture = look()
    see(Glance(picture, None, "Reading the sheet", 0, 1))
    told = check_sheet(picture)
    figures = {
        "matrix": told.matrix.tolist(), "before": told.before, "after": told.after, "exposure": told.exposure,
        "balance": told.balance.tolist(),
    }  # fmt: skip
    words = f"White is neutral; it was off by ΔE {told.before:.1f}. Hues are told by the colour card only."
    return Verdict(True, words, figures)


def piece_check(scan: PassState, piece: ReferencePiece, progress: Progress) -> Verdict:
    """Errors of the instrument from a pass over the reference piece; raises `StepNotPossible` when it is not in view."""
    place = get_operation("place_frames")
    state, _ = place.run(ScanState((scan,)), place.parameters(), progress)
    told = measured_piece(state.passes[0], piece)
    figures = {
        "form_mm": list(told.form_mm), "size_mm": list(told.size_mm), "spacing_error_mm": told.spacing_error_mm,
        "spacing_uncertainty_mm": told.spacing_uncertainty_mm, "size_uncertainty_mm": told.size_uncertainty_mm,
        "flatness_mm": told.flatness_mm, "scale": told.scale,
    }  # fmt: skip
    return Verdict(told.ok, told.words, figures)
