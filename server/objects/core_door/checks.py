"""Checks of the instruments that ship: what the stand-ins show, and what the core makes of it."""

import tempfile
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image

from lucid_relic.calibration.board import Board
from lucid_relic.calibration.colour_card import card_picture, card_size_mm, under_new_light
from lucid_relic.calibration.reference_piece import ReferencePiece
from lucid_relic.capture.faults import CABLE, COLD, LAMP, TABLE, light_of, need_answer
from lucid_relic.capture.held import BoardOnPlate, HeldBoard, Print, look_at_card, true_lens, white_sheet
from lucid_relic.capture.instruments import instrument, traits_of
from lucid_relic.capture.reference_model import reference_model
from lucid_relic.capture.virtual import TurntablePlan, VirtualScanner
from lucid_relic.desk.guided_checks import Glance, axis_check, board_check, card_check, piece_check, sheet_check
from lucid_relic.desk.reminders import NAMES, reminders
from lucid_relic.io.capture_folder import CaptureFolder
from lucid_relic.io.capture_writer import CaptureWriter
from lucid_relic.io.files import replacing
from lucid_relic.io.results import finite
from lucid_relic.progress import silent
from lucid_relic.types import Instrument, Shutter

KNOCKED, OTHER_BOARD, NO_BOARD = "knocked", "other board", "no board"
FAULTS = {
    CABLE: "Cable pulled", TABLE: "Table stuck", LAMP: "Lamp cold", KNOCKED: "Head knocked", OTHER_BOARD: "Another board",
    NO_BOARD: "Nothing held",
}  # fmt: skip
CHECK_NAMES = NAMES
WITH_TABLE, WITHOUT = ("board", "axis", "card", "piece", "sheet"), ("board", "card", "sheet")
BOARDS = {"jewel": Board(square_mm=3.0, marker_mm=2.25)}
SQUARE_PX, CARD_PX_PER_MM = 96, 6.0  # of what stands in for print
PIECE, SMALL = ReferencePiece("Ball bar of 100 mm"), 0.4
PIECES = {"jewel": ReferencePiece("Ball bar of 40 mm", (12.0, 12.0), 40.0)}
PIECE_STOPS = 8
PAPER = 0.88  # reflectance of the stand-in's sheet
KNOCKED_SCALE = 0.0012  # of lengths, of a head that was knocked
LAMPS = {"desk": (1.0, 0.93, 0.82), "jewel": (0.96, 0.98, 1.0), "hand": (1.0, 0.97, 0.9), "line": (1.0, 0.95, 0.8)}
SHOWN_PX = 640  # width of the picture that is shown
See = Callable[[Glance], None]


def checks_of(name: str) -> tuple[str, ...]:
    """The kinds of checks that an instrument has."""
    return WITH_TABLE if instrument(name).kind in ("table", "two_axis") else WITHOUT


def due(name: str, checks: dict[str, tuple[float, bool]], fits_mm: list[float]) -> list[dict[str, str]]:
    """What should be checked: see `reminders`."""
    return [{"kind": r.kind, "words": r.words} for r in reminders(checks_of(name), checks, fits_mm)]


def run_check(kind: str, name: str, seed: int, fault: Callable[[], str], see: See) -> tuple[bool, str, dict[str, Any]]:
    """Check an instrument: good or not, a sentence, figures. Raises `LucidRelicError` when it cannot be checked."""
    sheet = instrument(name)
    look = _Looks(sheet, seed, fault, see)
    verdict = getattr(look, kind)()
    return verdict.ok, verdict.words, finite(verdict.figures)


def card_under_sheet(card: dict[str, Any], sheet: dict[str, Any]) -> list[list[float]]:
    """The matrix of a card's figures, for the light that the figures of a later white sheet tell of."""
    then, now = (f["exposure"] * np.array(f["balance"]) for f in (card, sheet))
    return under_new_light(np.array(card["matrix"]), then, now).tolist()


def save_glance(glance: Glance, path: Path) -> list[list[float]]:
    """Write a check's picture as JPEG; where the board is wanted, in shares of its sides."""
    step = max(glance.picture.shape[1] // SHOWN_PX, 1)
    picture = glance.picture[::step, ::step]
    path.parent.mkdir(parents=True, exist_ok=True)
    with replacing(path) as out:  # the one before may be on its way to a page
        Image.fromarray(np.ascontiguousarray(picture)).save(out, "JPEG", quality=85)
    if glance.outline is None:
        return []
    height, width = glance.picture.shape[:2]
    return [[round(float(x) / width, 4), round(float(y) / height, 4)] for x, y in glance.outline]


class _Looks:
    """The stand-in's side of each check."""

    def __init__(self, sheet: Instrument, seed: int, fault: Callable[[], str], see: See) -> None:
        self._sheet, self._seed, self._fault, self._see = sheet, seed, fault, see
        self._lens = true_lens(sheet.camera, fault() == KNOCKED)
        self._board = BOARDS.get(sheet.name, Board())

    def _held(self) -> Print | None:
        """The board that somebody brings: of the wrong one the markers have other numbers."""
        if self._fault() == NO_BOARD:
            return None
        board = replace(self._board, first_id=120) if self._fault() == OTHER_BOARD else self._board
        px_per_mm = SQUARE_PX / board.square_mm
        return Print.of_board(board.picture(px_per_mm), px_per_mm, board.size_mm)

    def _answers(self, table: bool = False) -> None:
        need_answer(self._fault(), self._sheet.title, table)

    def board(self) -> Any:
        held = HeldBoard(self._lens, self._held(), self._seed)

        def look(wanted: np.ndarray) -> np.ndarray:
            self._answers()
            return held.look(wanted)

        return board_check(look, self._board, self._sheet, self._see)

    def axis(self) -> Any:
        plate = BoardOnPlate(self._lens, self._held(), self._sheet.standoff_mm * 1.15, 42.0, self._seed)

        def look(degrees: float) -> np.ndarray:
            self._answers(table=True)
            return plate.look(degrees)

        return axis_check(look, self._board, self._lens, self._see)

    def card(self) -> Any:
        return card_check(self._flat(Print(card_picture(CARD_PX_PER_MM), CARD_PX_PER_MM, card_size_mm())), self._see)

    def sheet(self) -> Any:
        return sheet_check(self._flat(white_sheet(PAPER)), self._see)

    def _flat(self, held: Print) -> Callable[[], np.ndarray]:
        """Photographs of something flat under the instrument's lamp."""
        lamp = 0.85 * np.array(LAMPS[self._sheet.name])
        if self._fault() == LAMP:
            lamp = lamp * light_of(COLD)

        def look() -> np.ndarray:
            self._answers()
            return look_at_card(self._lens, None if self._fault() == NO_BOARD else held, lamp, self._seed)

        return look

    def piece(self) -> Any:
        sheet, piece = self._sheet, PIECES.get(self._sheet.name, PIECE)
        model = reference_model(PIECE.diameters_mm, PIECE.spacing_mm)
        if sheet.name in PIECES:
            mesh = model.mesh
            model = replace(model, mesh=replace(mesh, vertices=(mesh.vertices * SMALL).astype(np.float32)))
        shutter = Shutter().check(sheet)
        traits = traits_of(sheet, shutter, shutter.exposure_ms[0])
        traits = replace(traits, scale_error=KNOCKED_SCALE if self._fault() == KNOCKED else traits.scale_error)
        device = VirtualScanner(model, TurntablePlan(stops=PIECE_STOPS, title="reference piece"), traits, self._seed)
        with tempfile.TemporaryDirectory() as scratch:
            writer = CaptureWriter(scratch, device.manifest())
            for k in range(PIECE_STOPS):
                self._answers(table=True)
                shot = device.shoot(k)
                writer.add(shot.depth, shot.colour, **shot.fields)
                self._see(Glance(shot.colour, None, f"Stop {k + 1} of {PIECE_STOPS}", k, PIECE_STOPS))
            writer.finish()
            self._see(Glance(shot.colour, None, "Measuring the piece", PIECE_STOPS, PIECE_STOPS))
            return piece_check(CaptureFolder(scratch).as_pass(), piece, silent)
