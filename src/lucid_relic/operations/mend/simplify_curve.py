"""Deviation curve: what every number of triangles would cost the shape."""

from dataclasses import asdict, dataclass
from typing import TypedDict

from lucid_relic.mending.curve import deviation_curve
from lucid_relic.operations.parameters import Parameters
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.operations.words import count
from lucid_relic.progress import Progress
from lucid_relic.types import ScanState


@dataclass(frozen=True, kw_only=True)
class SimplifyCurveParameters(Parameters):
    """There is nothing to choose: all counts are told."""


class PointTold(TypedDict):
    """A number of triangles, and how far the surface would lie off at the most, for 95 %, and in the mean (mm)."""

    triangles: int
    max_mm: float
    p95_mm: float
    mean_mm: float


class SimplifyCurveReport(TypedDict):
    """The curve, from all triangles to the fewest."""

    curve: list[PointTold]


def _headline(report: Report) -> str:
    return f"{count(report['curve'][0]['triangles'])} to {count(report['curve'][-1]['triangles'])}"


@operation(
    "simplify_curve",
    title="Deviation curve",
    stage="mend",
    key="Shift+Y",
    weight=20,
    needs=(Need.MESH,),
    parameters=SimplifyCurveParameters,
    headline=_headline,
)
def simplify_curve(
    state: ScanState, params: SimplifyCurveParameters, progress: Progress
) -> tuple[ScanState, SimplifyCurveReport]:
    """Work out once what every number of triangles would cost, by real reductions; the mesh stays as it is."""
    curve = deviation_curve(state.mesh, progress)
    return state, {"curve": [PointTold(**asdict(point)) for point in curve]}  # type: ignore[typeddict-item]
