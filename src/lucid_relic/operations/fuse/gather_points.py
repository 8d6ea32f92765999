"""Gather points: one even point cloud, a result of its own beside the mesh."""

from dataclasses import dataclass, replace
from typing import TypedDict

from lucid_relic.errors import StepNotPossible
from lucid_relic.fusion.consolidate import consolidated
from lucid_relic.operations.fuse.own_voxel import own_voxel
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.operations.words import count, mm
from lucid_relic.progress import Progress
from lucid_relic.types import ScanState


@dataclass(frozen=True, kw_only=True)
class GatherPointsParameters(Parameters):
    spacing_mm: float = param(
        0.0, "Distance between points; 0 takes the spacing of the pixels", unit="mm", low=0, high=20
    )
    least_frames: int = param(2, "Leave out points that fewer frames saw", low=1, high=100)


class GatherPointsReport(TypedDict):
    """How many points there are and how far apart (mm)."""

    points: int
    spacing_mm: float


def _headline(report: Report) -> str:
    return f"{count(report['points'])} points, {mm(report['spacing_mm'], 2)} apart"


@operation(
    "gather_points",
    title="Gather points",
    stage="fuse",
    key="B",
    weight=5,
    needs=(Need.PLACED,),
    parameters=GatherPointsParameters,
    headline=_headline,
)
def gather_points(
    state: ScanState, params: GatherPointsParameters, progress: Progress
) -> tuple[ScanState, GatherPointsReport]:
    """Average all frames to one even point cloud with normals and colours, a result of its own."""
    measured = state.for_surface()
    spacing = params.spacing_mm or own_voxel(measured, "even")
    cloud = consolidated(measured, spacing, params.least_frames, progress)
    if not len(cloud):
        raise StepNotPossible("No point was seen by so many frames. Ask for fewer.")
    return replace(state, points=cloud), {"points": len(cloud), "spacing_mm": spacing}
