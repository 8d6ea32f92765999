"""Operations of the stages Mend and Colour."""

from dataclasses import dataclass, replace
from typing import Any

from lucid_relic.colour.lay import lay_colour as lay
from lucid_relic.errors import StepNotPossible
from lucid_relic.mending.simplify import simplify as reduce_mesh
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.registry import operation
from lucid_relic.progress import Progress
from lucid_relic.types import ScanState


@dataclass(frozen=True, kw_only=True)
class SimplifyParameters(Parameters):
    triangles: int = param(300_000, "How many triangles to keep", low=4, high=50_000_000)


@operation("simplify", "Simplify", "mend", SimplifyParameters)
def simplify(state: ScanState, params: SimplifyParameters, progress: Progress) -> tuple[ScanState, dict[str, Any]]:
    """Reduce the triangle count where it costs the shape least; takes a texture off."""
    if state.mesh is None:
        raise StepNotPossible("There is no mesh to simplify yet. Fuse first.")
    before = len(state.mesh.faces)
    progress(0.05, f"Simplifying {before:,} triangles")
    mesh = reduce_mesh(state.mesh, params.triangles).mesh
    return replace(state, mesh=mesh), {"triangles_before": before, "triangles": len(mesh.faces)}


@dataclass(frozen=True, kw_only=True)
class LayColourParameters(Parameters):
    size: int = param(2048, "Side of the square texture", unit="texels", low=256, high=8192)


@operation("lay_colour", "Lay colour", "colour", LayColourParameters)
def lay_colour(state: ScanState, params: LayColourParameters, progress: Progress) -> tuple[ScanState, dict[str, Any]]:
    """Lay the photographs of the placed passes onto the mesh as a texture."""
    if state.mesh is None:
        raise StepNotPossible("There is no mesh to lay colour on yet. Fuse first.")
    mesh = lay(state, state.mesh, params.size, progress)
    return replace(state, mesh=mesh), {
        "texture": params.size,
        "seen_share": mesh.texture.seen if mesh.texture else 0.0,
    }
