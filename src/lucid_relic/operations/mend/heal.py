"""Heal: take a marked artefact out and close over it."""

from dataclasses import dataclass, replace
from typing import TypedDict

import numpy as np

from lucid_relic.colour.patched import in_vertex_colours, over_patches
from lucid_relic.mending.heal import heal as healed
from lucid_relic.operations.chosen import marked_of
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.progress import Progress
from lucid_relic.types import Marks, ScanState


@dataclass(frozen=True, kw_only=True)
class HealParameters(Parameters):
    marks: Marks = param(Marks(), "The artefact", kind="marks")
    how: str = param("curved", "Go on as the surface around bends, or span it flat", choices=("curved", "flat"))


class HealReport(TypedDict):
    """Triangles and area (mm²) taken out, holes closed over, and how many of them had to stay flat."""

    triangles_out: int
    area_mm2: float
    patches: int
    spanned_flat: int


def _headline(report: Report) -> str:
    return f"{report['area_mm2']:.1f} mm² taken out and closed over"


@operation(
    "heal",
    title="Heal",
    stage="mend",
    key="Shift+H",
    weight=3,
    needs=(Need.MESH,),
    parameters=HealParameters,
    headline=_headline,
)
def heal(state: ScanState, params: HealParameters, progress: Progress) -> tuple[ScanState, HealReport]:
    """Take a marked artefact out of the mesh and close over it, colour included."""
    mesh = state.mesh
    chosen = marked_of(mesh, params.marks)
    area = float(np.linalg.norm(mesh.face_normals()[chosen], axis=1).sum() / 2)
    done = healed(in_vertex_colours(mesh), chosen, params.how == "flat", progress)
    return replace(state, mesh=over_patches(mesh.select_faces(~chosen), done.mesh)), {
        "triangles_out": int(chosen.sum()),
        "area_mm2": area,
        "patches": done.patches,
        "spanned_flat": done.flat,
    }
