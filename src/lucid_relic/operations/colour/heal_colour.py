"""Heal colour: what is marked takes the colour of what is around it."""

from dataclasses import dataclass, replace
from typing import TypedDict

import numpy as np

from lucid_relic.colour.heal_colour import heal_colour as healed
from lucid_relic.inspection.summary import STRANGE
from lucid_relic.operations.chosen import marked_of
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.progress import Progress
from lucid_relic.types import Marks, ScanState, TriangleMesh


@dataclass(frozen=True, kw_only=True)
class HealColourParameters(Parameters):
    marks: Marks = param(Marks(), "Glare, a sticker, putty: what has the wrong colour", kind="marks")


class HealColourReport(TypedDict):
    """Area (mm²) and texels that took the colour of their surroundings."""

    area_mm2: float
    texels: int


def _headline(report: Report) -> str:
    return f"{report['area_mm2']:.1f} mm² healed"


@operation(
    "heal_colour",
    title="Heal colour",
    stage="colour",
    key="Shift+C",
    weight=3,
    needs=(Need.MESH,),
    parameters=HealColourParameters,
    headline=_headline,
)
def heal_colour(
    state: ScanState, params: HealColourParameters, progress: Progress
) -> tuple[ScanState, HealColourReport]:
    """Give marked parts the colour of what is around them: glare, a sticker, putty."""
    mesh = state.mesh
    chosen = marked_of(mesh, params.marks)
    progress(0.2, "Taking the colour from around")
    done = healed(mesh, chosen)
    left = [place for place in state.notes.get(STRANGE, []) if not _lies_in(mesh, chosen, place["at"])]
    return replace(state, mesh=done.mesh, notes={**state.notes, STRANGE: left}), {
        "area_mm2": float(np.linalg.norm(mesh.face_normals()[chosen], axis=1).sum() / 2),
        "texels": done.texels,
    }


def _lies_in(mesh: TriangleMesh, chosen: np.ndarray, at: list[float]) -> bool:
    """Whether the triangle nearest to a place is a chosen one."""
    return bool(chosen[int(np.argmin(((mesh.face_centres() - np.array(at)) ** 2).sum(axis=1)))])
