"""Print check: whether the mesh can be handed to a printer, and what would make it so."""

from dataclasses import dataclass, replace
from typing import Any, TypedDict

from lucid_relic.inspection.print_check import PRINTERS
from lucid_relic.inspection.print_check import print_check as judged
from lucid_relic.inspection.summary import WALLS, digest_of_mesh
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.progress import Progress
from lucid_relic.types import ScanState


@dataclass(frozen=True, kw_only=True)
class PrintCheckParameters(Parameters):
    printer: str = param("filament-0.4", "What it is printed with", choices=tuple(PRINTERS))
    wall_mm: float = param(0.0, "Thinner walls are faults; 0 takes what the printer makes", unit="mm", low=0, high=50)


class PrintCheckReport(TypedDict):
    """Every check with its words, place and mend, thin spots, the thinnest wall (mm), and whether all hold."""

    printer: str
    checks: list[dict[str, Any]]
    thin: list[dict[str, Any]]
    thinnest_mm: float | None
    ready: bool


def _headline(report: Report) -> str:
    faults = sum(not check["holds"] for check in report["checks"])
    return "ready to print" if report["ready"] else f"{faults} fault{'s' * (faults != 1)}"


@operation(
    "print_check",
    title="Print check",
    stage="mend",
    key="Alt+H",
    weight=6,
    needs=(Need.MESH,),
    parameters=PrintCheckParameters,
    headline=_headline,
)
def print_check(
    state: ScanState, params: PrintCheckParameters, progress: Progress
) -> tuple[ScanState, PrintCheckReport]:
    """Tell whether it is closed, sound, thick enough, flat below and small enough to print, and what mends what is not."""
    printer = PRINTERS[params.printer]
    if params.wall_mm:
        printer = replace(printer, wall_mm=params.wall_mm)
    told = judged(state.mesh, printer, progress=progress)
    walls = {"of": digest_of_mesh(state.mesh), "least_mm": printer.wall_mm, "spots": list(told.thin)}
    report: PrintCheckReport = {
        "printer": told.printer,
        "checks": [dict(c) for c in told.as_dict()["checks"]],
        "thin": list(told.thin),
        "thinnest_mm": told.thinnest_mm,
        "ready": told.ready,
    }
    return replace(state, notes={**state.notes, WALLS: walls}), report
