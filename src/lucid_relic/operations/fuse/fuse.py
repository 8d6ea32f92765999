"""Fuse: one measured surface from all frames."""

from dataclasses import dataclass, replace
from typing import NotRequired, TypedDict

from lucid_relic.errors import StepNotPossible
from lucid_relic.fusion.polygonise import polygonise_open
from lucid_relic.fusion.tsdf import CHARACTERS, forecast_bytes, fuse_volume
from lucid_relic.inspection.mesh_check import boundary_loops
from lucid_relic.inspection.summary import FUSED_OF
from lucid_relic.operations.fuse.own_voxel import own_voxel, points_within, voxel_for
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.operations.words import count, mm
from lucid_relic.progress import Progress, part_of
from lucid_relic.types import ScanState


@dataclass(frozen=True, kw_only=True)
class FuseParameters(Parameters):
    voxel_mm: float = param(0.0, "Voxel size; 0 takes the spacing of the scanner's pixels", unit="mm", low=0, high=20)
    triangles: int = param(
        0, "A voxel, up to two pixels wide, fine enough for so many; 0 for the pixels' own", low=0, high=50_000_000
    )
    character: str = param("even", "Draft: a quick look; Even: smooth; Crisp: keeps edges", choices=tuple(CHARACTERS))


class FuseReport(TypedDict):
    """The voxel size used, blocks and memory, and the surface that came of it.

    Where the voxel was chosen for a number of triangles: the pixels' spacing that would have been taken otherwise, and
    within how many mm of the surface 95 % of what some frames measured lies.
    """

    voxel_mm: float
    blocks: int
    memory_forecast_gb: float
    triangles: int
    holes: int
    area_mm2: float
    spacing_mm: NotRequired[float]
    points_within_mm: NotRequired[float]


def _headline(report: Report) -> str:
    return f"{count(report['triangles'])} at {mm(report['voxel_mm'], 2)}"


@operation(
    "fuse",
    title="Fuse",
    stage="fuse",
    key="U",
    weight=6,
    needs=(Need.PLACED,),
    parameters=FuseParameters,
    headline=_headline,
)
def fuse(state: ScanState, params: FuseParameters, progress: Progress) -> tuple[ScanState, FuseReport]:
    """Fuse all frames to one measured surface, open where nothing was measured."""
    measured = state.for_surface()
    own = own_voxel(measured, params.character)
    chosen = params.triangles > 0 and params.voxel_mm == 0 and params.character != "draft"
    voxel = params.voxel_mm or (voxel_for(measured, params.triangles) if chosen else own)
    volume = fuse_volume(measured, voxel, part_of(progress, 0, 0.75), params.character)
    mesh = polygonise_open(volume, part_of(progress, 0.75, 1.0))
    if not len(mesh.faces):
        raise StepNotPossible(
            f"Fusing at {voxel:g} mm gave no surface. Choose a smaller voxel size or look at the passes."
        )
    notes = {**state.notes, FUSED_OF: [p.title for p in measured.used_passes()]}
    changed = replace(state, volume=volume, mesh=mesh, upright=False, notes=notes)
    report: FuseReport = {
        "voxel_mm": voxel,
        "blocks": len(volume.coords),
        "memory_forecast_gb": round(forecast_bytes(len(volume.coords)) / 1e9, 3),
        "triangles": len(mesh.faces),
        "holes": boundary_loops(mesh.faces),
        "area_mm2": mesh.area_mm2(),
    }
    if chosen:
        report["spacing_mm"], report["points_within_mm"] = own, points_within(measured, mesh, own)
    return changed, report
