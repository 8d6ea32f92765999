"""Close holes of the fused surface."""

from dataclasses import dataclass, replace
from typing import NotRequired, TypedDict

from lucid_relic.errors import StepNotPossible
from lucid_relic.fusion.closing import close_field
from lucid_relic.fusion.patches import fair_patches, without_patches_over
from lucid_relic.fusion.polygonise import polygonise_closed
from lucid_relic.mending.pieces import keep_over
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.operations.words import percent
from lucid_relic.progress import Progress, part_of
from lucid_relic.types import ScanState

SPECK_VOXELS = 4.0  # closed bits smaller than this are noise, not surface


@dataclass(frozen=True, kw_only=True)
class CloseParameters(Parameters):
    holes: str = param("all", "All makes it watertight; up_to closes holes up to a size", choices=("all", "up_to"))
    up_to_mm: float = param(10.0, "The widest hole to close, across its rim", unit="mm", low=0, high=10_000)
    follow_curvature: bool = param(True, "Let the made-up surface follow the curvature around it")


class CloseReport(TypedDict):
    """What came of closing; the counts of holes only when closing went up to a size."""

    triangles: int
    made_up_area_fraction: float
    volume_mm3: float | None
    patches_faired: int
    feet_on_plates: int
    holes_closed: NotRequired[int]
    holes_left: NotRequired[int]


def _headline(report: Report) -> str:
    if "holes_left" in report:
        return f"closed {report['holes_closed']}, left {report['holes_left']}"
    return f"made up {percent(report['made_up_area_fraction'])}"


@operation(
    "close",
    title="Close holes",
    stage="fuse",
    key="C",
    weight=8,
    needs=(Need.VOLUME,),
    parameters=CloseParameters,
    headline=_headline,
)
def close(state: ScanState, params: CloseParameters, progress: Progress) -> tuple[ScanState, CloseReport]:
    """Close holes of the fused surface, all or up to a size; what no frame measured is marked made up."""
    closed = close_field(state, state.volume, part_of(progress, 0, 0.5))
    mesh = polygonise_closed(closed, state.volume, part_of(progress, 0.5, 0.7))
    if not len(mesh.faces):
        raise StepNotPossible("Closing left no surface. Look at the passes: too little was measured.")
    mesh, _ = keep_over(mesh, SPECK_VOXELS * state.volume.voxel_mm)
    faired = stayed = opened = 0
    if params.follow_curvature:
        mesh, faired = fair_patches(state, mesh, part_of(progress, 0.7, 1.0))
    if params.holes == "up_to":
        mesh, stayed, opened = without_patches_over(mesh, params.up_to_mm)
        mesh, _ = keep_over(mesh, SPECK_VOXELS * state.volume.voxel_mm)
    report: CloseReport = {
        "triangles": len(mesh.faces),
        "made_up_area_fraction": mesh.made_up_area_fraction(),
        "volume_mm3": mesh.volume_mm3() if params.holes == "all" else None,
        "patches_faired": faired,
        "feet_on_plates": closed.feet,
    }
    if params.holes == "up_to":
        report["holes_closed"], report["holes_left"] = stayed, opened
    return replace(state, mesh=mesh), report
