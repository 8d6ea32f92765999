"""Takes: fusions that stand beside each other; one is made the surface, or put away."""

from dataclasses import dataclass, replace
from typing import TypedDict

from lucid_relic.errors import StepNotPossible, quoted
from lucid_relic.inspection.summary import FUSED_OF, OF_TAKE, SWALLOWED
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.operations.words import count
from lucid_relic.progress import Progress
from lucid_relic.types import ScanState


@dataclass(frozen=True, kw_only=True)
class TakesParameters(Parameters):
    take: str = param("", "Which take; the newest when left out")
    what: str = param("use", "Make it the surface, or put it away", choices=("use", "put_away"))


class TakesReport(TypedDict):
    """The take, what was done with it, its triangles, and the names of the takes that are there then."""

    take: str
    done: str
    triangles: int
    takes: list[str]


def _headline(report: Report) -> str:
    if report["done"] == "put_away":
        return f"{report['take']} put away"
    return f"{report['take']}, {count(report['triangles'])}"


@operation(
    "takes",
    title="Takes",
    stage="fuse",
    key="Shift+T",
    weight=1,
    needs=(Need.TAKES,),
    parameters=TakesParameters,
    headline=_headline,
)
def takes(state: ScanState, params: TakesParameters, progress: Progress) -> tuple[ScanState, TakesReport]:
    """Make one of the takes the surface, as it was fused, or put one away; the others stay where they are."""
    names = [t.name for t in state.takes]
    if params.take and params.take not in names:
        raise StepNotPossible(f"There is no take {quoted(params.take)}; there are: {', '.join(names)}.")
    chosen = next(t for t in state.takes if t.name == (params.take or names[-1]))
    report: TakesReport = {
        "take": chosen.name,
        "done": params.what,
        "triangles": chosen.told["triangles"],
        "takes": names,
    }
    if params.what == "put_away":
        report["takes"] = [name for name in names if name != chosen.name]
        return replace(state, takes=tuple(t for t in state.takes if t is not chosen)), report
    progress(0.1, f"Fetching {chosen.name}")
    notes = {**state.notes, FUSED_OF: chosen.told["passes"], OF_TAKE: chosen.name}
    notes[SWALLOWED] = chosen.told.get("swallowed", [])
    return replace(state, mesh=chosen.mesh(), volume=chosen.volume(), upright=False, notes=notes), report
