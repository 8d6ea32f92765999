"""Use surface: the mesh that a pass came as becomes the surface, to be mended, coloured and delivered."""

from dataclasses import dataclass, replace
from typing import TypedDict

from lucid_relic.errors import StepNotPossible, quoted
from lucid_relic.inspection.mesh_check import boundary_loops
from lucid_relic.operations.chosen import check_title
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.operations.words import count
from lucid_relic.progress import Progress
from lucid_relic.types import PassState, ScanState


@dataclass(frozen=True, kw_only=True)
class UseSurfaceParameters(Parameters):
    source: str | None = param(None, "The pass that came as a mesh; the only one when left out", kind="pass")


class UseSurfaceReport(TypedDict):
    """Which pass gave the surface, and how large it is."""

    source: str
    triangles: int
    holes: int
    textured: bool


def _headline(report: Report) -> str:
    return f"{count(report['triangles'])} of {report['source']}"


@operation(
    "use_surface",
    title="Use surface",
    stage="mend",
    key="Alt+M",
    weight=1,
    needs=(Need.POINTS,),
    parameters=UseSurfaceParameters,
    headline=_headline,
)
def use_surface(
    state: ScanState, params: UseSurfaceParameters, progress: Progress
) -> tuple[ScanState, UseSurfaceReport]:
    """Take the mesh that a pass came as for the surface, as it is, without fusing."""
    scan = _source(state, params.source)
    mesh = scan.cloud.surface.transformed(scan.T_object_pass)
    report: UseSurfaceReport = {
        "source": scan.title,
        "triangles": len(mesh.faces),
        "holes": boundary_loops(mesh.faces),
        "textured": mesh.texture is not None,
    }
    return replace(state, mesh=mesh, volume=None, upright=False), report


def _source(state: ScanState, title: str | None) -> PassState:
    if title is not None:
        check_title(state, title)
    able = [p for p in state.passes if p.cloud is not None and p.cloud.surface is not None]
    chosen = [p for p in able if title is None or p.title == title]
    if not chosen:
        raise StepNotPossible("Only a pass that came as a mesh has a surface; from frames and points one is fused.")
    if len(chosen) > 1:
        raise StepNotPossible(f"Several passes came as meshes: choose {', '.join(quoted(p.title) for p in chosen)}.")
    return chosen[0]
