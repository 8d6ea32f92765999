"""Deviation: how far the surface lies off another take, a pass, or a mesh that came in as a reference."""

from dataclasses import dataclass, replace
from typing import Any, TypedDict

from lucid_relic.errors import StepNotPossible
from lucid_relic.inspection.deviation import deviation as measured_off
from lucid_relic.inspection.deviation import reference
from lucid_relic.inspection.summary import DEVIATION, digest_of_mesh
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.operations.words import mm, percent
from lucid_relic.progress import Progress
from lucid_relic.types import ScanState


@dataclass(frozen=True, kw_only=True)
class DeviationParameters(Parameters):
    against: str = param("", "The take or the pass that it is held against")
    tolerance_mm: float = param(0.0, "The band it should lie within; 0 asks for none", unit="mm", low=0, high=1000)


class DeviationReport(TypedDict):
    """Against what; mean with its sign, root mean square, 95 % and greatest (mm) of what has a counterpart, its share, the
    share within the band (None without), counts over ±range_mm, and the places that lie farthest off."""

    against: str
    tolerance_mm: float
    mean_mm: float
    rms_mm: float
    p95_mm: float
    max_mm: float
    known_share: float
    within_share: float | None
    range_mm: float
    bins: list[float]
    extremes: list[dict[str, Any]]


def _headline(report: Report) -> str:
    told = f"{percent(0.95, 0)} within {mm(report['p95_mm'], 3)} of {report['against']}"
    if report["within_share"] is not None:
        told += f", {percent(report['within_share'])} in the band"
    return told


@operation(
    "deviation",
    title="Deviation",
    stage="set",
    key="Shift+V",
    weight=4,
    needs=(Need.MESH,),
    parameters=DeviationParameters,
    headline=_headline,
)
def deviation(state: ScanState, params: DeviationParameters, progress: Progress) -> tuple[ScanState, DeviationReport]:
    """Hold the surface against another take, a pass, or a mesh that came in: as colours, with what lies farthest off."""
    if not params.against:
        raise StepNotPossible("Choose the take or the pass that the surface is held against.")
    progress(0.1, f"Holding it against {params.against}")
    found = measured_off(state.mesh.vertices, reference(state, params.against), params.tolerance_mm)
    told = {"of": digest_of_mesh(state.mesh), "against": params.against, "tolerance_mm": params.tolerance_mm}
    report = {"against": params.against, "tolerance_mm": params.tolerance_mm, **found.facts}
    kept = {**told, **{name: report[name] for name in ("mean_mm", "rms_mm", "p95_mm", "max_mm", "within_share")}}
    return replace(state, notes={**state.notes, DEVIATION: kept}), report  # type: ignore[return-value]
