"""Operations of the stage Fuse: one surface from all frames, and closing its holes."""

from dataclasses import dataclass, replace
from typing import Any

from lucid_relic.errors import StepNotPossible
from lucid_relic.fusion.closing import close_field
from lucid_relic.fusion.polygonise import polygonise_closed, polygonise_open
from lucid_relic.fusion.tsdf import fuse_volume
from lucid_relic.inspection.mesh_check import boundary_loops
from lucid_relic.mending.pieces import keep_largest as largest_of
from lucid_relic.operations.clean import pixel_spacing
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.registry import operation
from lucid_relic.progress import Progress, part_of
from lucid_relic.types import ScanState


@dataclass(frozen=True, kw_only=True)
class FuseParameters(Parameters):
    voxel_mm: float = param(0.0, "Voxel size; 0 takes the spacing of the scanner's pixels", unit="mm", low=0, high=20)


@operation("fuse", "Fuse", "fuse", FuseParameters)
def fuse(state: ScanState, params: FuseParameters, progress: Progress) -> tuple[ScanState, dict[str, Any]]:
    """Fuse all frames to one measured surface, open where nothing was measured."""
    if not state.used_passes():
        raise StepNotPossible("No pass is placed yet. Find the fit first.")
    voxel = params.voxel_mm or round(min(pixel_spacing(p) for p in state.used_passes()), 3)
    volume = fuse_volume(state, voxel, part_of(progress, 0, 0.9))
    progress(0.9, "Making triangles")
    mesh = polygonise_open(volume)
    if not len(mesh.faces):
        raise StepNotPossible(
            f"Fusing at {voxel:g} mm gave no surface. Choose a smaller voxel size or look at the passes."
        )
    changed = replace(state, volume=volume, mesh=mesh, upright=False)
    return changed, {
        "voxel_mm": voxel,
        "blocks": len(volume.coords),
        "triangles": len(mesh.faces),
        "holes": boundary_loops(mesh.faces),
        "area_mm2": mesh.area_mm2(),
    }


@dataclass(frozen=True, kw_only=True)
class CloseParameters(Parameters):
    pass


@operation("close", "Close all holes", "fuse", CloseParameters)
def close(state: ScanState, params: CloseParameters, progress: Progress) -> tuple[ScanState, dict[str, Any]]:
    """Make the surface watertight; what no frame measured is made up and marked so."""
    if state.volume is None:
        raise StepNotPossible("There is nothing fused to close. Fuse first.")
    closed = close_field(state, state.volume, part_of(progress, 0, 0.9))
    progress(0.9, "Making triangles")
    mesh = polygonise_closed(closed, state.volume)
    if not len(mesh.faces):
        raise StepNotPossible("Closing left no surface. Look at the passes: too little was measured.")
    return replace(state, mesh=mesh), {
        "triangles": len(mesh.faces),
        "made_up_area_fraction": mesh.made_up_area_fraction(),
        "volume_mm3": mesh.volume_mm3(),
    }


@dataclass(frozen=True, kw_only=True)
class LargestParameters(Parameters):
    pass


@operation("largest_piece", "Largest piece only", "mend", LargestParameters)
def largest_piece(state: ScanState, params: LargestParameters, progress: Progress) -> tuple[ScanState, dict[str, Any]]:
    """Keep the largest piece of the mesh and drop all others."""
    if state.mesh is None:
        raise StepNotPossible("There is no mesh yet. Fuse first.")
    before = len(state.mesh.faces)
    mesh, dropped = largest_of(state.mesh)
    return replace(state, mesh=mesh), {
        "pieces_dropped": dropped,
        "triangles_before": before,
        "triangles": len(mesh.faces),
    }
