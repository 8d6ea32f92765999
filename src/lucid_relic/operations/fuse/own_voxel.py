"""The voxel size that an object's passes ask for by themselves, and what a coarser one for a purpose gives up."""

import numpy as np

from lucid_relic.fusion.forecast import TRIANGLES_OF_AREA
from lucid_relic.geometry.bvh import TriangleTree
from lucid_relic.geometry.pass_points import frame_points, pass_points
from lucid_relic.geometry.points import voxel_keys
from lucid_relic.geometry.rigid import transform_points
from lucid_relic.geometry.spacing import pixel_spacing
from lucid_relic.types import PassState, PointCloud, ScanState, TriangleMesh

DRAFT_SPACINGS = 2.5  # pixel spacings of a draft's voxel: a sixteenth of the blocks, and still every feature of 1 cm
SPARE = 3.0  # triangles fused for each that is wanted: a reduction then still chooses where they are needed
MOST_SPACINGS = 2.0  # pixel spacings of a voxel at the most: what is finer the window of a pixel's plane blurs anyway
CELLS_OF_AREA = 1.1  # cells of a grid with a measured point in it, in a square as wide as one: measured, 1.08 to 1.13
SIDE_SHARE, LEAST_ACROSS = 0.5, 150  # of a face's side; across an object at the least, however wide its faces are
LOOKS = 12  # frames that are asked, evenly spread
CELL_SPACINGS = 6.0  # of the grid that measures the area: several points in every cell


def own_voxel(state: ScanState, character: str) -> float:
    """The spacing (mm) of the finest pass's pixels, or a coarser one for a draft."""
    return round(_spacing(state) * (DRAFT_SPACINGS if character == "draft" else 1.0), 3)


def voxel_for(state: ScanState, triangles: int) -> float:
    """The finest voxel (mm) that still gives only a few times so many triangles, within one to two pixel spacings."""
    spacing = _spacing(state)
    cell = CELL_SPACINGS * spacing
    seen = np.concatenate([c.points for c in _looks(state, cell)])
    area = len(np.unique(voxel_keys(seen, cell))) * cell**2 / CELLS_OF_AREA
    wanted = float(np.sqrt(TRIANGLES_OF_AREA * area / (SPARE * triangles)))
    return round(float(np.clip(wanted, spacing, MOST_SPACINGS * spacing)), 3)


def points_within(state: ScanState, mesh: TriangleMesh, spacing_mm: float) -> float:
    """Within how many mm of a surface 95 % of what some frames measured lies, noise and all."""
    seen = np.concatenate([c.points for c in _looks(state, 3 * spacing_mm)])
    return float(np.percentile(TriangleTree(mesh).closest(seen)[0], 95))


def _spacing(state: ScanState) -> float:
    return min(_told_by(p) for p in state.used_passes())


def _told_by(scan: PassState) -> float:
    """How finely (mm) a pass tells the shape: its faces are flat, so one that came as a mesh tells no more than their sides."""
    spacing = pixel_spacing(scan)
    if scan.cloud is None or scan.cloud.surface is None:
        return spacing
    surface = scan.cloud.surface
    size = float(np.linalg.norm(np.ptp(surface.vertices, axis=0)))
    return max(spacing, SIDE_SHARE * min(surface.usual_side(), size / LEAST_ACROSS))


def _looks(state: ScanState, voxel_mm: float) -> list[PointCloud]:
    """What some frames of all used passes see, one point per voxel, where it lies on the object."""
    frames: list[tuple[PassState, int]] = [(p, int(i)) for p in state.used_passes() for i in p.frames_used()]
    chosen = np.unique(np.linspace(0, max(len(frames) - 1, 0), min(LOOKS, len(frames))).astype(int))
    clouds = [pass_points(p, voxel_mm).transformed(p.T_object_pass) for p in state.used_passes() if p.cloud is not None]
    for scan, index in (frames[k] for k in chosen):
        cloud = frame_points(scan, index, cleaned=True, coloured=False, voxel_mm=voxel_mm)
        clouds.append(PointCloud(transform_points(scan.T_object_pass, cloud.points).astype(np.float32), cloud.normals))
    return clouds
