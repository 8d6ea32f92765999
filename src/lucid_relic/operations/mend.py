"""Operations of the stages Mend and Colour."""

from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from lucid_relic.colour.lay import lay_colour as lay
from lucid_relic.errors import StepNotPossible
from lucid_relic.mending.remesh import remesh as even_out
from lucid_relic.mending.simplify import hausdorff
from lucid_relic.mending.simplify import simplify as reduce_mesh
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.registry import operation
from lucid_relic.progress import Progress
from lucid_relic.types import ScanState


@dataclass(frozen=True, kw_only=True)
class SimplifyParameters(Parameters):
    triangles: int = param(300_000, "How many triangles to keep at the most", low=4, high=50_000_000)
    share: float = param(1.0, "Keep at most this share of the triangles", low=0.0001, high=1)
    deviation_mm: float = param(
        0.0, "Go as far as no point comes to lie farther off; 0 goes by count", unit="mm", low=0, high=100
    )
    keep_texture: bool = param(False, "Keep a texture, with its seams in place")


@operation("simplify", "Simplify", "mend", SimplifyParameters)
def simplify(state: ScanState, params: SimplifyParameters, progress: Progress) -> tuple[ScanState, dict[str, Any]]:
    """Reduce the triangle count where it costs the shape least, to a number, a share or a deviation."""
    if state.mesh is None:
        raise StepNotPossible("There is no mesh to simplify yet. Fuse first.")
    before = len(state.mesh.faces)
    progress(0.05, f"Simplifying {before:,} triangles")
    target = max(min(params.triangles, int(params.share * before)), 4)
    if params.deviation_mm:
        target = 4 if params.share == 1.0 else target
    out = reduce_mesh(state.mesh, target, params.deviation_mm or None, params.keep_texture)
    progress(0.9, "Measuring how far the surface moved")
    away = out.hausdorff_mm if out.hausdorff_mm is not None else hausdorff(state.mesh, out.mesh)
    return replace(state, mesh=out.mesh), {
        "triangles_before": before,
        "triangles": len(out.mesh.faces),
        "hausdorff_mm": away,
    }


@dataclass(frozen=True, kw_only=True)
class RemeshParameters(Parameters):
    edge_mm: float = param(0.0, "Length of the edges; 0 keeps about as many triangles", unit="mm", low=0, high=100)


@operation("remesh", "Even out triangles", "mend", RemeshParameters)
def remesh(state: ScanState, params: RemeshParameters, progress: Progress) -> tuple[ScanState, dict[str, Any]]:
    """Make all triangles about equally large and well shaped; takes a texture off."""
    if state.mesh is None:
        raise StepNotPossible("There is no mesh to even out yet. Fuse first.")
    before = len(state.mesh.faces)
    edge = params.edge_mm or float(np.sqrt(state.mesh.area_mm2() / before * 4 / np.sqrt(3)))
    mesh = even_out(state.mesh, edge, progress)
    return replace(state, mesh=mesh), {"edge_mm": edge, "triangles_before": before, "triangles": len(mesh.faces)}


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
