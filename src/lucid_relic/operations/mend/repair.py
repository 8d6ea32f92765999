"""Repair: what comes in broken ends closed, manifold and turned outwards."""

from dataclasses import dataclass, replace
from typing import TypedDict

from lucid_relic.mending.repair import repair as repaired
from lucid_relic.operations.parameters import Parameters
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.operations.words import change
from lucid_relic.progress import Progress
from lucid_relic.types import ScanState


@dataclass(frozen=True, kw_only=True)
class RepairParameters(Parameters):
    """Repair mends all it finds: there is nothing to choose."""


class DoneThing(TypedDict):
    """What was done, in words, and how often."""

    what: str
    count: int


class RepairReport(TypedDict):
    """Everything that was done, whether the mesh is closed and manifold then, and triangles before and after."""

    done: list[DoneThing]
    sound: bool
    triangles_before: int
    triangles: int


def _headline(report: Report) -> str:
    if not report["done"]:
        return "nothing to mend"
    ending = "" if report["sound"] else ", not sound yet"
    return change(report["triangles_before"], report["triangles"]) + ending


@operation(
    "repair",
    title="Repair",
    stage="mend",
    key="Shift+R",
    weight=6,
    needs=(Need.MESH,),
    parameters=RepairParameters,
    headline=_headline,
)
def repair(state: ScanState, params: RepairParameters, progress: Progress) -> tuple[ScanState, RepairReport]:
    """Mend a mesh that came in broken: doubled, crossing, flipped and flat triangles, fins, shared edges, holes."""
    before = len(state.mesh.faces)
    work = repaired(state.mesh, progress)
    return replace(state, mesh=work.mesh), {
        "done": [{"what": what, "count": count} for what, count in work.done.items()],
        "sound": work.sound,
        "triangles_before": before,
        "triangles": len(work.mesh.faces),
    }
