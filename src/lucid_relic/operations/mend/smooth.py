"""Smooth or sharpen the mesh, with the largest allowed shift as a hard bound."""

from dataclasses import dataclass, replace
from typing import TypedDict

import numpy as np

from lucid_relic.mending.smooth import smooth as smoothed
from lucid_relic.operations.chosen import marked_of
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.operations.words import mm
from lucid_relic.progress import Progress
from lucid_relic.types import Marks, ScanState, TriangleMesh


@dataclass(frozen=True, kw_only=True)
class SmoothParameters(Parameters):
    most_mm: float = param(0.05, "No place moves farther than this", unit="mm", low=0.001, high=5)
    how: str = param("smooth", "Even out what is finer than edges, or bring it out", choices=("smooth", "sharpen"))
    marks: Marks | None = param(None, "Only what is marked; everywhere when left out", kind="marks")


class SmoothReport(TypedDict):
    """How far places moved, at the most and in the mean of those that did (mm), how many may, and the change of the volume (share)."""

    most_mm: float
    mean_mm: float
    vertices: int
    volume_change: float | None


def _headline(report: Report) -> str:
    return f"moved {mm(report['mean_mm'], 3)}, at most {mm(report['most_mm'], 3)}"


@operation(
    "smooth",
    title="Smooth",
    stage="mend",
    key="Alt+9",
    weight=6,
    needs=(Need.MESH,),
    parameters=SmoothParameters,
    headline=_headline,
)
def smooth(state: ScanState, params: SmoothParameters, progress: Progress) -> tuple[ScanState, SmoothReport]:
    """Even the surface out or bring its detail out, edges and volume kept, no place moved farther than allowed."""
    before = state.mesh
    chosen = None if params.marks is None else _marked(before, params.marks)
    mesh = smoothed(before, params.most_mm, params.how == "sharpen", chosen, progress)
    shift = np.linalg.norm(mesh.vertices.astype(np.float64) - before.vertices, axis=1)
    moved = shift[shift > 0]
    volume = before.volume_mm3()
    return replace(state, mesh=mesh), {
        "most_mm": round(float(shift.max(initial=0.0)), 6),
        "mean_mm": round(float(moved.mean()) if len(moved) else 0.0, 6),
        "vertices": len(shift) if chosen is None else int(chosen.sum()),
        "volume_change": mesh.volume_mm3() / volume - 1 if volume > 0 else None,
    }


def _marked(mesh: TriangleMesh, marks: Marks) -> np.ndarray:
    """(n,) bool: the vertices that only triangles that are marked have."""
    marked = marked_of(mesh, marks)
    chosen = np.zeros(len(mesh.vertices), bool)
    chosen[mesh.faces[marked]] = True
    chosen[mesh.faces[~marked]] = False
    return chosen
