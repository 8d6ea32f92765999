"""Turn normals: which side of a pass of points is out, when that was guessed wrongly."""

from dataclasses import dataclass, replace
from typing import TypedDict

from lucid_relic.errors import StepNotPossible
from lucid_relic.operations.chosen import chosen_passes
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.progress import Progress
from lucid_relic.types import ScanState


@dataclass(frozen=True, kw_only=True)
class TurnNormalsParameters(Parameters):
    passes: tuple[str, ...] | None = param(None, "Only these passes; all when left out", kind="passes")


class TurnNormalsReport(TypedDict):
    """The passes that were turned."""

    passes: list[str]


def _headline(report: Report) -> str:
    return ", ".join(report["passes"])


@operation(
    "turn_normals",
    title="Turn normals",
    stage="capture",
    key="Alt+N",
    weight=1,
    needs=(Need.POINTS,),
    parameters=TurnNormalsParameters,
    headline=_headline,
)
def turn_normals(
    state: ScanState, params: TurnNormalsParameters, progress: Progress
) -> tuple[ScanState, TurnNormalsReport]:
    """Turn the normals of passes of points to the other side: inside becomes outside."""
    chosen = [n for n in chosen_passes(state, params.passes) if state.passes[n].cloud is not None]
    if not chosen:
        raise StepNotPossible("These passes came as frames, which were looked at from outside.")
    for n in chosen:
        scan = state.passes[n]
        state = state.with_pass(n, replace(scan, cloud=scan.cloud.with_other_side_out()))
    return state, {"passes": [state.passes[n].title for n in chosen]}
