"""Place frames: where the camera stood at every frame of a pass."""

from dataclasses import dataclass, replace
from typing import TypedDict

import numpy as np

from lucid_relic.alignment.joint import read_views
from lucid_relic.alignment.marker_ties import held_by_markers
from lucid_relic.alignment.settle import SettleResult, agreement, settle
from lucid_relic.alignment.track import find_lost, track, track_by_markers
from lucid_relic.geometry.rigid import about_axis, inverse
from lucid_relic.operations.chosen import chosen_passes
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.operations.words import mm
from lucid_relic.progress import Progress, part_of
from lucid_relic.types import PassState, ScanState

# How much better neighbouring frames must agree before angles are taken to run the other way: seen are 1.0 for the
# right way (the test compares it with itself turned) and 1.3 and more for the wrong one.
WRONG_WAY_GAIN = 1.08


@dataclass(frozen=True, kw_only=True)
class PlaceFramesParameters(Parameters):
    drop_bad: bool = param(
        True, "Leave out frames that fit three times worse than the others, or lie loose where others see the same"
    )
    passes: tuple[str, ...] | None = param(None, "Only these passes; all when left out", kind="passes")


PlacedPass = TypedDict(
    "PlacedPass",
    {
        "pass": str,
        "frames": int,
        "rms_before_mm": float,
        "rms_mm": float,
        "noise_mm": float,
        "left_out": list[int],
        "knocked": list[int],
        "loose": list[int],
        "table_turned_the_other_way": bool,
    },
)


class PlaceFramesReport(TypedDict):
    """Per pass what was placed, and how well the frames fit before and after (mm).

    loose are frames that nothing holds in some direction; those among left_out were seen by others too.
    """

    passes: list[PlacedPass]


def _headline(report: Report) -> str:
    return " · ".join(mm(p["rms_mm"], 3) for p in report["passes"]) or "no frames"


@operation(
    "place_frames",
    title="Place frames",
    stage="capture",
    key="P",
    weight=8,
    needs=(Need.PASSES,),
    parameters=PlaceFramesParameters,
    headline=_headline,
)
def place_frames(
    state: ScanState, params: PlaceFramesParameters, progress: Progress
) -> tuple[ScanState, PlaceFramesReport]:
    """Find where the camera stood at every frame: from the table's axis, given poses, by shape, or by markers.

    Passes of points have no frames and stay as they are.
    """
    figures: list[PlacedPass] = []
    chosen = chosen_passes(state, params.passes)
    for k, n in enumerate(chosen):
        scan = state.passes[n]
        if scan.cloud is not None:
            continue
        part = part_of(progress, k / len(chosen), (k + 1) / len(chosen))
        lost: list[int] = []
        if not scan.posed:
            tracked = (track_by_markers if held_by_markers(scan) else track)(scan, part_of(part, 0, 0.4))
            scan, lost = tracked.scan, tracked.lost
        result, turned = _settled_alone(scan, params.drop_bad, part_of(part, 0.4, 0.9))
        if lost and not held_by_markers(scan) and len(result.passes[0].frames_used()) > 1:
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
                "knocked": list(result.passes[0].knocked),
                "loose": list(result.passes[0].loose),
                "table_turned_the_other_way": turned,
            }
        )
    return state, {"passes": figures}


def _settled_alone(scan: PassState, drop_bad: bool, progress: Progress) -> tuple[SettleResult, bool]:
    """Settle one pass; a table whose angles run the other way is recognised before it."""
    if len(scan.frames_used()) < 2:
        return SettleResult((scan,), 0.0, 0.0, []), False
    turned = False
    views = read_views((scan,), part_of(progress, 0, 0.4), cleaned=False)
    if scan.turntable is not None:
        mirrored = _other_way(scan)
        turned = agreement(mirrored, views) > WRONG_WAY_GAIN * agreement(scan, views)
        scan = mirrored if turned else scan
    return settle((scan,), progress, cleaned=False, drop_bad=drop_bad, views=views), turned


def _other_way(scan: PassState) -> PassState:
    table = replace(scan.turntable, degrees=-scan.turntable.degrees)
    turned = about_axis(table.axis_point, table.axis_direction, -np.radians(table.degrees))
    base = scan.frame_poses[0] @ inverse(turned[0])
    return replace(scan, turntable=table, frame_poses=base @ turned)
