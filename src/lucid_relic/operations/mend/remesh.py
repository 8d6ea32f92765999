"""Even out triangles."""

from dataclasses import dataclass, replace
from typing import TypedDict

import numpy as np

from lucid_relic.mending.remesh import remesh as even_out
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.operations.words import change
from lucid_relic.progress import Progress
from lucid_relic.types import ScanState


@dataclass(frozen=True, kw_only=True)
class RemeshParameters(Parameters):
    edge_mm: float = param(0.0, "Length of the edges; 0 keeps about as many triangles", unit="mm", low=0, high=100)


class RemeshReport(TypedDict):
    """The edge length used (mm), and triangles before and after."""

    edge_mm: float
    triangles_before: int
    triangles: int


def _headline(report: Report) -> str:
    return change(report["triangles_before"], report["triangles"])


@operation(
    "remesh",
    title="Even out triangles",
    stage="mend",
    key="E",
    weight=8,
    needs=(Need.MESH,),
    parameters=RemeshParameters,
    headline=_headline,
)
def remesh(state: ScanState, params: RemeshParameters, progress: Progress) -> tuple[ScanState, RemeshReport]:
    """Make all triangles about equally large and well shaped; takes a texture off."""
    before = len(state.mesh.faces)
    edge = params.edge_mm or float(np.sqrt(state.mesh.area_mm2() / before * 4 / np.sqrt(3)))
    mesh = even_out(state.mesh, edge, progress)
    return replace(state, mesh=mesh), {"edge_mm": edge, "triangles_before": before, "triangles": len(mesh.faces)}
