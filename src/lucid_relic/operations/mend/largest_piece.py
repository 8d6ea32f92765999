"""Largest piece: drop what hangs on nothing."""

from dataclasses import dataclass, replace
from typing import TypedDict

from lucid_relic.errors import StepNotPossible
from lucid_relic.mending.pieces import keep_largest, keep_over
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.operations.words import change
from lucid_relic.progress import Progress
from lucid_relic.types import ScanState


@dataclass(frozen=True, kw_only=True)
class LargestParameters(Parameters):
    over_mm: float = param(
        0.0, "Keep every piece at least this large; 0 keeps the largest only", unit="mm", low=0, high=10_000
    )


class LargestReport(TypedDict):
    """Pieces dropped, and triangles before and after."""

    pieces_dropped: int
    triangles_before: int
    triangles: int


def _headline(report: Report) -> str:
    return change(report["triangles_before"], report["triangles"])


@operation(
    "largest_piece",
    title="Largest piece",
    stage="mend",
    key="L",
    weight=1,
    needs=(Need.MESH,),
    parameters=LargestParameters,
    headline=_headline,
)
def largest_piece(state: ScanState, params: LargestParameters, progress: Progress) -> tuple[ScanState, LargestReport]:
    """Keep the largest piece of the mesh, or the pieces over a size, and drop all others."""
    before = len(state.mesh.faces)
    progress(0.1, "Finding the pieces")
    mesh, dropped = keep_over(state.mesh, params.over_mm) if params.over_mm else keep_largest(state.mesh)
    if not len(mesh.faces):
        raise StepNotPossible(f"No piece is {params.over_mm:g} mm large. Choose a smaller size.")
    return replace(state, mesh=mesh), {
        "pieces_dropped": dropped,
        "triangles_before": before,
        "triangles": len(mesh.faces),
    }
