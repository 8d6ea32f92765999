"""Operations of the stage Fuse: one surface from all frames, closing its holes, points of its own."""

from dataclasses import dataclass, replace
from typing import Any

from lucid_relic.errors import StepNotPossible
from lucid_relic.fusion.closing import close_field
from lucid_relic.fusion.consolidate import consolidated
from lucid_relic.fusion.patches import fair_patches, without_patches_over
from lucid_relic.fusion.polygonise import polygonise_closed, polygonise_open
from lucid_relic.fusion.tsdf import CHARACTERS, forecast_bytes, fuse_volume
from lucid_relic.inspection.mesh_check import boundary_loops
from lucid_relic.mending.pieces import keep_largest, keep_over
from lucid_relic.operations.clean import pixel_spacing
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.registry import operation
from lucid_relic.progress import Progress, part_of
from lucid_relic.types import ScanState

DRAFT_SPACINGS = 2.5
SPECK_VOXELS = 4.0  # closed bits smaller than this are noise, not surface


@dataclass(frozen=True, kw_only=True)
class FuseParameters(Parameters):
    voxel_mm: float = param(0.0, "Voxel size; 0 takes the spacing of the scanner's pixels", unit="mm", low=0, high=20)
    character: str = param("even", "Draft: a quick look; Even: smooth; Crisp: keeps edges", choices=tuple(CHARACTERS))


@operation("fuse", "Fuse", "fuse", FuseParameters)
def fuse(state: ScanState, params: FuseParameters, progress: Progress) -> tuple[ScanState, dict[str, Any]]:
    """Fuse all frames to one measured surface, open where nothing was measured."""
    if not state.used_passes():
        raise StepNotPossible("No pass is placed yet. Find the fit first.")
    voxel = params.voxel_mm or _own_voxel(state, params.character)
    volume = fuse_volume(state, voxel, part_of(progress, 0, 0.9), params.character)
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
        "memory_forecast_gb": round(forecast_bytes(len(volume.coords)) / 1e9, 3),
        "triangles": len(mesh.faces),
        "holes": boundary_loops(mesh.faces),
        "area_mm2": mesh.area_mm2(),
    }


def _own_voxel(state: ScanState, character: str) -> float:
    spacing = min(pixel_spacing(p) for p in state.used_passes())
    return round(spacing * (DRAFT_SPACINGS if character == "draft" else 1.0), 3)


@dataclass(frozen=True, kw_only=True)
class CloseParameters(Parameters):
    holes: str = param("all", "All makes it watertight; up_to closes holes up to a size", choices=("all", "up_to"))
    up_to_mm: float = param(10.0, "The widest hole to close, across its rim", unit="mm", low=0, high=10_000)
    follow_curvature: bool = param(True, "Let the made-up surface follow the curvature around it")


@operation("close", "Close holes", "fuse", CloseParameters)
def close(state: ScanState, params: CloseParameters, progress: Progress) -> tuple[ScanState, dict[str, Any]]:
    """Close holes of the fused surface, all or up to a size; what no frame measured is marked made up."""
    if state.volume is None:
        raise StepNotPossible("There is nothing fused to close. Fuse first.")
    closed = close_field(state, state.volume, part_of(progress, 0, 0.6))
    progress(0.6, "Making triangles")
    mesh = polygonise_closed(closed, state.volume)
    if not len(mesh.faces):
        raise StepNotPossible("Closing left no surface. Look at the passes: too little was measured.")
    mesh, _ = keep_over(mesh, SPECK_VOXELS * state.volume.voxel_mm)
    faired = stayed = opened = 0
    if params.follow_curvature:
        mesh, faired = fair_patches(state, mesh, part_of(progress, 0.7, 1.0))
    if params.holes == "up_to":
        mesh, stayed, opened = without_patches_over(mesh, params.up_to_mm)
        mesh, _ = keep_over(mesh, SPECK_VOXELS * state.volume.voxel_mm)
    return replace(state, mesh=mesh), {
        "triangles": len(mesh.faces),
        "made_up_area_fraction": mesh.made_up_area_fraction(),
        "volume_mm3": mesh.volume_mm3() if params.holes == "all" else None,
        "patches_faired": faired,
        **({"holes_closed": stayed, "holes_left": opened} if params.holes == "up_to" else {}),
    }


@dataclass(frozen=True, kw_only=True)
class LargestParameters(Parameters):
    over_mm: float = param(
        0.0, "Keep every piece at least this large; 0 keeps the largest only", unit="mm", low=0, high=10_000
    )


@operation("largest_piece", "Largest piece", "mend", LargestParameters)
def largest_piece(state: ScanState, params: LargestParameters, progress: Progress) -> tuple[ScanState, dict[str, Any]]:
    """Keep the largest piece of the mesh, or the pieces over a size, and drop all others."""
    if state.mesh is None:
        raise StepNotPossible("There is no mesh yet. Fuse first.")
    before = len(state.mesh.faces)
    mesh, dropped = keep_over(state.mesh, params.over_mm) if params.over_mm else keep_largest(state.mesh)
    if not len(mesh.faces):
        raise StepNotPossible(f"No piece is {params.over_mm:g} mm large. Choose a smaller size.")
    return replace(state, mesh=mesh), {
        "pieces_dropped": dropped,
        "triangles_before": before,
        "triangles": len(mesh.faces),
    }


@dataclass(frozen=True, kw_only=True)
class GatherPointsParameters(Parameters):
    spacing_mm: float = param(
        0.0, "Distance between points; 0 takes the spacing of the pixels", unit="mm", low=0, high=20
    )
    least_frames: int = param(2, "Leave out points that fewer frames saw", low=1, high=100)


@operation("gather_points", "Gather points", "fuse", GatherPointsParameters)
def gather_points(
    state: ScanState, params: GatherPointsParameters, progress: Progress
) -> tuple[ScanState, dict[str, Any]]:
    """Average all frames to one even point cloud with normals and colours, a result of its own."""
    if not state.used_passes():
        raise StepNotPossible("No pass is placed yet. Find the fit first.")
    spacing = params.spacing_mm or _own_voxel(state, "even")
    cloud = consolidated(state, spacing, params.least_frames, progress)
    if not len(cloud):
        raise StepNotPossible("No point was seen by so many frames. Ask for fewer.")
    return replace(state, points=cloud), {"points": len(cloud), "spacing_mm": spacing}
