"""Swallowed detail: what several frames measured, and a fused surface does not go through."""

from typing import NamedTuple

import numpy as np

from lucid_relic.geometry.bvh import TriangleTree
from lucid_relic.geometry.cells import Cells
from lucid_relic.geometry.depth_map import kept_depth
from lucid_relic.geometry.points import voxel_keys
from lucid_relic.geometry.rigid import transform_points
from lucid_relic.progress import Progress, silent
from lucid_relic.types import PassState, ScanState, TriangleMesh

FAR_VOXELS = 2.0  # from the surface: nearer it could be the rounding of an edge
FAR_NOISES = 5.0  # of a pass: nearer it could be the noise
LEAST_FRAMES = 2  # that saw a place: what one frame alone saw may be a stray
LEAST_CELLS = 4  # of a place, a voxel wide each: fewer are strays that fell together
MOST_PLACES = 20  # that are told, the largest
EVERY = 2  # pixels each way of which one is asked
MOST_FRAMES = 60  # that are asked, evenly spread


class SwallowedPlace(NamedTuple):
    """A place (3,) mm, how far off the surface what was measured lies there at the most (mm), and how wide it is (mm)."""

    at: np.ndarray
    off_mm: float
    wide_mm: float


def find_swallowed(
    state: ScanState, mesh: TriangleMesh, voxel_mm: float, progress: Progress = silent
) -> list[SwallowedPlace]:
    """Places where two frames or more measured something farther than two voxels from the surface, the widest first."""
    frames = [(p, int(i)) for p in state.used_passes() if p.cloud is None for i in p.frames_used()]
    if not frames or not len(mesh.faces):
        return []
    tree = TriangleTree(mesh)
    chosen = np.unique(np.linspace(0, len(frames) - 1, min(MOST_FRAMES, len(frames))).astype(int))
    far, keys = [], []
    for done, (scan, index) in enumerate(frames[k] for k in chosen):
        progress(done / len(chosen), "Looking for swallowed detail")
        limit = max(FAR_VOXELS * voxel_mm, FAR_NOISES * scan.noise_mm)
        points = _points(scan, index)
        points = points[_first_in_cells(points, voxel_mm)]
        off, _ = tree.closest(points, 10 * limit, enough=limit)
        points, off = points[off > limit], off[off > limit]
        far.append(np.column_stack([points, off]))
        keys.append(np.unique(voxel_keys(points, voxel_mm)))
    seen, count = np.unique(np.concatenate(keys), return_counts=True)
    several = seen[count >= LEAST_FRAMES]
    rows = np.concatenate(far)
    rows = rows[np.isin(voxel_keys(rows[:, :3], voxel_mm), several)]
    return _places(rows, voxel_mm) if len(rows) else []


def _points(scan: PassState, index: int) -> np.ndarray:
    """Some of the kept points (n, 3) of a frame, in the object's frame."""
    kept = kept_depth(scan, index)
    depth = kept.depth[::EVERY, ::EVERY]
    mask = kept.wanted[::EVERY, ::EVERY] & (depth > 0)
    rays, z = kept.camera.rays[::EVERY, ::EVERY][mask], depth[mask]
    inside = np.stack([rays[:, 0] * z, rays[:, 1] * z, z], axis=1)
    return transform_points(scan.T_object_camera(index), inside.astype(np.float64))


def _first_in_cells(points: np.ndarray, cell_mm: float) -> np.ndarray:
    """Indices of one point in every cell."""
    first: np.ndarray = np.unique(voxel_keys(points, cell_mm), return_index=True)[1]
    return first


def _places(rows: np.ndarray, voxel_mm: float) -> list[SwallowedPlace]:
    cells = Cells(rows[:, :3], 2 * voxel_mm)
    piece = cells.piece_of(rows[:, :3])
    out = []
    for k in range(cells.pieces):
        own = rows[piece == k]
        if len(np.unique(voxel_keys(own[:, :3], voxel_mm))) >= LEAST_CELLS:
            wide = float(np.linalg.norm(np.ptp(own[:, :3], axis=0)))
            out.append(SwallowedPlace(own[np.argmax(own[:, 3]), :3], float(own[:, 3].max()), wide))
    return sorted(out, key=lambda p: -p.wide_mm)[:MOST_PLACES]
