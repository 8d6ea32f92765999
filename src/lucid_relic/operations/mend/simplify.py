"""Simplify: fewer triangles where it costs the shape least."""

from dataclasses import dataclass, replace
from typing import TypedDict

from lucid_relic.mending.simplify import hausdorff
from lucid_relic.mending.simplify import simplify as reduce_mesh
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.operations.words import change, mm
from lucid_relic.progress import Progress, part_of
from lucid_relic.types import ScanState

FEWEST = 4  # triangles of a closed surface: a tetrahedron


@dataclass(frozen=True, kw_only=True)
class SimplifyParameters(Parameters):
    triangles: int = param(300_000, "How many triangles to keep at the most", low=FEWEST, high=50_000_000)
    share: float = param(1.0, "Keep at most this share of the triangles", low=0.0001, high=1)
    deviation_mm: float = param(
        0.0, "Go as far as no point comes to lie farther off; 0 goes by count", unit="mm", low=0, high=100
    )
    keep_texture: bool = param(False, "Keep a texture, with its seams in place")


class SimplifyReport(TypedDict):
    """Triangles before and after, and how far the surface moved at the most (mm)."""

    triangles_before: int
    triangles: int
    hausdorff_mm: float


def _headline(report: Report) -> str:
    off = f", off {mm(report['hausdorff_mm'], 3)}" if report["hausdorff_mm"] else ""
    return change(report["triangles_before"], report["triangles"]) + off


@operation(
    "simplify",
    title="Simplify",
    stage="mend",
    key="Y",
    weight=12,
    needs=(Need.MESH,),
    parameters=SimplifyParameters,
    headline=_headline,
)
def simplify(state: ScanState, params: SimplifyParameters, progress: Progress) -> tuple[ScanState, SimplifyReport]:
    """Reduce the triangle count where it costs the shape least, to a number, a share or a deviation."""
    before = len(state.mesh.faces)
    target = max(min(params.triangles, int(params.share * before)), FEWEST)
    if params.deviation_mm:
        target = FEWEST if params.share == 1.0 else target
    working = part_of(progress, 0.0, 0.9)
    out = reduce_mesh(state.mesh, target, params.deviation_mm or None, params.keep_texture, working)
    progress(0.9, "Measuring how far the surface moved")
    away = out.hausdorff_mm if out.hausdorff_mm is not None else hausdorff(state.mesh, out.mesh)
    return replace(state, mesh=out.mesh), {
        "triangles_before": before,
        "triangles": len(out.mesh.faces),
        "hausdorff_mm": away,
    }
