"""Operations of the stage Clean, and the placing of frames that comes before it."""

from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from lucid_relic.alignment.settle import SettleResult, agreement, settle
from lucid_relic.alignment.track import find_lost, track
from lucid_relic.cleaning.fuzz import trimmed_masks
from lucid_relic.cleaning.stand import find_plate, keep_above
from lucid_relic.errors import ParameterError, StepNotPossible
from lucid_relic.geometry.depth_map import frame_map
from lucid_relic.geometry.rigid import about_axis, inverse
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.registry import operation
from lucid_relic.progress import Progress, part_of
from lucid_relic.types import PassState, ScanState

WRONG_WAY_GAIN = 1.08
PLATE_SCATTERS = 4.0
PLATE_SPACINGS = 0.5
FUZZ_NOISES = 5.0
FUZZ_SPACINGS = 1.5


@dataclass(frozen=True, kw_only=True)
class PlaceFramesParameters(Parameters):
    drop_bad: bool = param(True, "Leave out frames that fit three times worse than the others")


@operation("place_frames", "Place frames", "capture", PlaceFramesParameters)
def place_frames(
    state: ScanState, params: PlaceFramesParameters, progress: Progress
) -> tuple[ScanState, dict[str, Any]]:
    """Find where the camera stood at every frame: from the table's axis, given poses, or by shape."""
    figures = []
    for n, scan in enumerate(state.passes):
        part = part_of(progress, n / len(state.passes), (n + 1) / len(state.passes))
        lost: list[int] = []
        if not scan.posed:
            tracked = track(scan, part_of(part, 0, 0.4))
            scan, lost = tracked.scan, tracked.lost
        result, turned = _settled_alone(scan, params.drop_bad, part_of(part, 0.4, 0.9))
        if lost and len(result.passes[0].frames_used()) > 1:
            tracked = find_lost(result.passes[0], lost, part_of(part, 0.9, 1.0))
            result, lost = replace(result, passes=(tracked.scan,)), tracked.lost
        state = state.with_pass(n, result.passes[0])
        figures.append(
            {
                "pass": scan.title,
                "frames": int(result.passes[0].frame_in.sum()),
                "rms_before_mm": result.rms_before_mm,
                "rms_mm": result.rms_after_mm,
                "noise_mm": result.passes[0].noise_mm,
                "left_out": lost + [i for _, i in result.dropped],
                "table_turned_the_other_way": turned,
            }
        )
    return state, {"passes": figures}


def _settled_alone(scan: PassState, drop_bad: bool, progress: Progress) -> tuple[SettleResult, bool]:
    """Settle one pass; a table whose angles run the other way is recognised before it."""
    if len(scan.frames_used()) < 2:
        return SettleResult((scan,), 0.0, 0.0, []), False
    turned = False
    if scan.turntable is not None:
        mirrored = _other_way(scan)
        turned = agreement(mirrored) > WRONG_WAY_GAIN * agreement(scan)
        scan = mirrored if turned else scan
    return settle((scan,), progress, cleaned=False, drop_bad=drop_bad), turned


def _other_way(scan: PassState) -> PassState:
    table = replace(scan.turntable, degrees=-scan.turntable.degrees)
    turned = np.stack([about_axis(table.axis_point, table.axis_direction, -a) for a in np.radians(table.degrees)])
    base = scan.frame_poses[0] @ inverse(turned[0])
    return replace(scan, turntable=table, frame_poses=base @ turned)


def pixel_spacing(scan: PassState) -> float:
    """Distance in mm between neighbouring pixels on the surface, in the middle used frame."""
    frames = scan.frames_used()
    if not len(frames):
        raise StepNotPossible(f"“{scan.title}” has no frames in.")
    surface = frame_map(scan, int(frames[len(frames) // 2]))
    mask = surface.confidence > 0
    if not mask.any():
        raise StepNotPossible(f"“{scan.title}” has no usable surface: look at the working range and the exposure.")
    return float(np.median(surface.depth[mask])) / scan.camera.fx


@dataclass(frozen=True, kw_only=True)
class StandCutParameters(Parameters):
    above_mm: float = param(
        0.0, "How far above the plate to cut; 0 finds it from the scatter", unit="mm", low=0, high=50
    )
    need_plate: bool = param(False, "Fail when a pass shows no plate, instead of leaving it whole")


@operation("stand_cut", "Stand cut", "clean", StandCutParameters)
def stand_cut(state: ScanState, params: StandCutParameters, progress: Progress) -> tuple[ScanState, dict[str, Any]]:
    """Take away table and tray: find the plate by itself and keep what stands above it."""
    figures = []
    for n, scan in enumerate(state.passes):
        part = part_of(progress, n / len(state.passes), (n + 1) / len(state.passes))
        part(0.0, f"Looking for the plate in “{scan.title}”")
        spacing = pixel_spacing(scan)
        try:
            plate = find_plate(scan, spacing)
        except StepNotPossible as why:
            if params.need_plate:
                raise
            figures.append({"pass": scan.title, "plate_found": False, "why": str(why)})
            continue
        above = params.above_mm or max(PLATE_SCATTERS * plate.scatter_mm, PLATE_SPACINGS * spacing)
        keep, before, after = keep_above(scan, plate.plane, above, part)
        if after == 0:
            raise ParameterError(f"A cut {above:g} mm above the plate leaves nothing of “{scan.title}”.")
        state = state.with_pass(n, replace(scan, keep=keep, plate=plate.plane))
        figures.append(
            {
                "pass": scan.title,
                "plate_found": True,
                "above_mm": above,
                "points_before": before,
                "points_after": after,
                "scatter_mm": plate.scatter_mm,
            }
        )
    return state, {"passes": figures}


@dataclass(frozen=True, kw_only=True)
class TrimFuzzParameters(Parameters):
    margin_mm: float = param(
        0.0, "How far behind a point another frame must have seen; 0 finds it", unit="mm", low=0, high=20
    )


@operation("trim_fuzz", "Trim fuzz", "clean", TrimFuzzParameters)
def trim_fuzz(state: ScanState, params: TrimFuzzParameters, progress: Progress) -> tuple[ScanState, dict[str, Any]]:
    """Take away points that other frames looked through: torn edges, dust, rests of the stand."""
    index = [n for n, p in enumerate(state.passes) if p.placed]
    if not index:
        raise StepNotPossible("No pass is placed yet. Find the fit first.")
    passes = tuple(state.passes[n] for n in index)
    spacing = max(pixel_spacing(p) for p in passes)
    margin = params.margin_mm or max(FUZZ_NOISES * max(p.noise_mm for p in passes), FUZZ_SPACINGS * spacing)
    masks, before, after = trimmed_masks(passes, margin, progress)
    for n, mask in zip(index, masks, strict=True):
        state = state.with_pass(n, replace(state.passes[n], keep=mask))
    return state, {"margin_mm": margin, "points_before": before, "points_after": after}
