"""Engine check: whether the mesh can be handed to a game engine or a page, and what would make it so."""

from dataclasses import dataclass
from typing import Any, TypedDict

from lucid_relic.inspection.engine_check import ENGINES
from lucid_relic.inspection.engine_check import engine_check as judged
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.progress import Progress
from lucid_relic.types import ScanState


@dataclass(frozen=True, kw_only=True)
class EngineCheckParameters(Parameters):
    engine: str = param("page", "What it is for", choices=tuple(ENGINES))


class EngineCheckReport(TypedDict):
    """Every check with its words and mend, and whether all hold."""

    engine: str
    checks: list[dict[str, Any]]
    ready: bool


def _headline(report: Report) -> str:
    failed = sum(not check["holds"] for check in report["checks"])
    return "ready" if report["ready"] else f"{failed} of {len(report['checks'])} do not hold"


@operation(
    "engine_check",
    title="Engine check",
    stage="mend",
    key="Shift+E",
    weight=1,
    needs=(Need.MESH,),
    parameters=EngineCheckParameters,
    headline=_headline,
)
def engine_check(
    state: ScanState, params: EngineCheckParameters, progress: Progress
) -> tuple[ScanState, EngineCheckReport]:
    """Judge triangles, texture, normals, pivot and size for a game engine or a page."""
    progress(0.1, "Checking the mesh")
    report = judged(state.mesh, ENGINES[params.engine]).as_dict()
    return state, EngineCheckReport(
        engine=report["engine"], checks=[dict(c) for c in report["checks"]], ready=report["ready"]
    )
