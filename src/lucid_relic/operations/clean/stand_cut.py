"""Stand cut: take away table and tray by a plane, found, drawn or pushed by hand."""

from dataclasses import dataclass, replace
from typing import NotRequired, TypedDict

import numpy as np

from lucid_relic.cleaning.stand import (
    Plate,
    cut_height,
    find_plate,
    height_over,
    is_plate,
    keep_above,
    plane_in_object,
    plane_in_pass,
)
from lucid_relic.errors import ParameterError, StepNotPossible
from lucid_relic.geometry.spacing import depth_noise, pixel_spacing
from lucid_relic.memo import remembered
from lucid_relic.operations.chosen import check_title, chosen_passes
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.preview import Preview, PreviewLayer
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.operations.words import change
from lucid_relic.progress import Progress, part_of
from lucid_relic.types import PassState, ScanState, ViewLine
from lucid_relic.view.pass_view import pass_view

SHOWN_WIDER = 1.08  # than the points it cuts: the plane's rim must be seen around them


@dataclass(frozen=True, kw_only=True)
class StandCutParameters(Parameters):
    above_mm: float = param(
        0.0, "How far above the plate to cut; 0 finds it from the scatter", unit="mm", low=-50, high=50
    )
    planes: dict[str, tuple[float, float, float, float]] | None = param(
        None, "Planes by hand instead of the found plate; what lies behind them goes", kind="planes"
    )
    line: ViewLine | None = param(None, "A line across the view; the plane stands on it, into the picture", kind="line")
    passes: tuple[str, ...] | None = param(None, "Only these passes; all when left out", kind="passes")
    need_plate: bool = param(False, "Fail when a pass shows no plate, instead of leaving it whole")


CutPass = TypedDict(
    "CutPass",
    {
        "pass": str,
        "plate_found": bool,
        "by": str,
        "plane": NotRequired[list[float]],
        "above_mm": NotRequired[float],
        "points_before": NotRequired[int],
        "points_after": NotRequired[int],
        "scatter_mm": NotRequired[float | None],
        "why": NotRequired[str],
    },
)


class StandCutReport(TypedDict):
    """Per pass the plane it was cut by (in the object's frame), who gave it, and points before and after."""

    passes: list[CutPass]


@dataclass(frozen=True)
class Cut:
    """The plane (4,) that one pass is cut by, in its own frame, and how far above it (mm).

    by says who gave it: found, hand or line; scatter_mm is known of a found plate only.
    """

    plane: np.ndarray
    above_mm: float
    by: str
    scatter_mm: float | None = None


def _headline(report: Report) -> str:
    cut = [p for p in report["passes"] if "points_after" in p]
    if not cut:
        return "no plate found"
    return change(sum(p["points_before"] for p in cut), sum(p["points_after"] for p in cut))


def _cut_of(scan: PassState, params: StandCutParameters) -> Cut:
    """Where a pass is to be cut; raises `StepNotPossible` when no plane was given and no plate is found."""
    given = (params.planes or {}).get(scan.title)
    if given is not None:
        return Cut(plane_in_pass(np.array(given), scan.T_object_pass), params.above_mm, "hand")
    if params.line is not None:
        return Cut(plane_in_pass(params.line.plane(), scan.T_object_pass), params.above_mm, "line")
    plate = _found_plate(scan)
    above = params.above_mm or cut_height(plate, pixel_spacing(scan), depth_noise(scan))
    return Cut(plate.plane, above, "found", plate.scatter_mm)


def _found_plate(scan: PassState) -> Plate:
    def search() -> Plate | str:
        try:
            return find_plate(scan, pixel_spacing(scan))
        except StepNotPossible as why:
            return str(why)

    found = remembered(scan, "plate", search)
    if isinstance(found, str):
        raise StepNotPossible(found)
    return found


def _chosen(state: ScanState, params: StandCutParameters) -> list[int]:
    for title in params.planes or {}:
        check_title(state, title)
    return chosen_passes(state, params.passes)


def _preview(state: ScanState, params: StandCutParameters) -> Preview:
    """The planes, and of the points that are shown those that would go; counts are of pixels, from those points."""
    figures, layers = [], []
    for n in _chosen(state, params):
        scan = state.passes[n]
        shown = pass_view(scan)
        total = int(shown.stands_for.sum())
        try:
            cut = _cut_of(scan, params)
        except StepNotPossible as why:
            figures.append(
                {"pass": scan.title, "by": "none", "why": str(why), "points_before": total, "points_after": total}
            )
            continue
        plane = plane_in_object(cut.plane, scan.T_object_pass)
        goes = height_over(plane, shown.cloud.points) <= cut.above_mm
        figures.append(
            {
                "pass": scan.title,
                "by": cut.by,
                "plane": plane.tolist(),
                "above_mm": cut.above_mm,
                "scatter_mm": cut.scatter_mm,
                "points_before": total,
                "points_after": total - int(shown.stands_for[goes].sum()),
            }
        )
        flags = np.packbits(goes, bitorder="little")
        corners = _corners(plane, cut.above_mm, shown.cloud.points)
        layers.append(PreviewLayer("plane", {"pass": scan.title, "plane": plane.tolist()}, {"corners": corners}))
        layers.append(PreviewLayer("marked", {"pass": scan.title, "digest": shown.digest}, {"flags": flags}))
    return Preview({"passes": figures}, tuple(layers))


def _corners(plane: np.ndarray, above_mm: float, points: np.ndarray) -> np.ndarray:
    """(4, 3) float32: a square of the cut plane that reaches a little beyond the points near it."""
    normal = plane[:3]
    helper = np.eye(3)[np.argmin(np.abs(normal))]
    side = np.cross(normal, helper)
    side /= np.linalg.norm(side)
    other = np.cross(normal, side)
    low, high = points.min(axis=0).astype(np.float64), points.max(axis=0).astype(np.float64)
    middle = (low + high) / 2
    middle -= normal * (normal @ middle - plane[3] - above_mm)
    reach = SHOWN_WIDER * float(np.linalg.norm(high - low)) / 2
    return np.array(
        [middle + reach * (a * side + b * other) for a, b in ((-1, -1), (1, -1), (1, 1), (-1, 1))], np.float32
    )


@operation(
    "stand_cut",
    title="Stand cut",
    stage="clean",
    key="S",
    weight=4,
    needs=(Need.PASSES,),
    parameters=StandCutParameters,
    headline=_headline,
    preview=_preview,
)
def stand_cut(state: ScanState, params: StandCutParameters, progress: Progress) -> tuple[ScanState, StandCutReport]:
    """Take away table and tray: by the plate that is found, or by planes of your own, and keep what stands above."""
    figures: list[CutPass] = []
    chosen = _chosen(state, params)
    for k, n in enumerate(chosen):
        scan = state.passes[n]
        part = part_of(progress, k / len(chosen), (k + 1) / len(chosen))
        part(0.0, f"Looking for the plate in “{scan.title}”")
        try:
            cut = _cut_of(scan, params)
        except StepNotPossible as why:
            if params.need_plate:
                raise
            figures.append({"pass": scan.title, "plate_found": False, "by": "none", "why": str(why)})
            continue
        keep, before, after = keep_above(scan, cut.plane, cut.above_mm, part)
        if after == 0:
            raise ParameterError(
                f"A cut {cut.above_mm:g} mm above the plane leaves nothing of “{scan.title}”. "
                "Lower it, or flip the side that is kept."
            )
        plate = cut.plane if is_plate(scan, cut.plane) else scan.plate
        state = state.with_pass(n, replace(scan, keep=keep, plate=plate))
        figures.append(
            {
                "pass": scan.title,
                "plate_found": cut.by == "found",
                "by": cut.by,
                "plane": plane_in_object(cut.plane, scan.T_object_pass).tolist(),
                "above_mm": cut.above_mm,
                "points_before": before,
                "points_after": after,
                "scatter_mm": cut.scatter_mm,
            }
        )
    return state, {"passes": figures}
