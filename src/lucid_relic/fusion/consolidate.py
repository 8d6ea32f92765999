"""One even point cloud from all frames: per cell the weighted mean of what the frames measured there.

Frames are read one at a time and folded into running sums by cell, so memory follows the size of the
surface and not the number of frames. Cells that face two ways (a thin wall) are kept apart by the side
that they face.
"""

import numpy as np

from lucid_relic.geometry.depth_map import frame_map
from lucid_relic.geometry.pass_points import came_points
from lucid_relic.geometry.points import voxel_keys
from lucid_relic.geometry.rigid import transform_points
from lucid_relic.progress import Progress
from lucid_relic.types import PassState, PointCloud, ScanState

COLUMNS = 11  # weight, position, normal, colour, frames
FOLD_EVERY = 8  # frames: sums of more would take more memory than frames


def consolidated(state: ScanState, spacing_mm: float, least_frames: int, progress: Progress) -> PointCloud:
    """Points (n, 3) with normals and colours in the object's frame, one per cell of `spacing_mm`.

    Cells that fewer than `least_frames` frames saw are left out; points that came in count as so many. Ordered by cell.
    """
    keys, sums = np.empty(0, np.int64), np.empty((0, COLUMNS))
    waiting: list[tuple[np.ndarray, np.ndarray]] = []
    clouds = [p for p in state.used_passes() if p.cloud is not None]
    frames = [(p, int(i)) for p in state.used_passes() for i in p.frames_used()]
    keys, sums = _folded([(keys, sums), *(_cloud_sums(p, spacing_mm, least_frames) for p in clouds)])
    for done, (scan, index) in enumerate(frames):
        progress(done / len(frames), f"Gathering frame {done + 1} of {len(frames)}")
        waiting.append(_frame_sums(scan, index, spacing_mm))
        if len(waiting) == FOLD_EVERY or done == len(frames) - 1:
            keys, sums = _folded([(keys, sums), *waiting])
            waiting = []
    seen = sums[:, 10] >= least_frames if len(sums) else np.empty(0, bool)
    sums = sums[seen]
    mean = sums[:, 1:10] / np.maximum(sums[:, :1], 1e-12)
    normals = mean[:, 3:6] / np.maximum(np.linalg.norm(mean[:, 3:6], axis=1, keepdims=True), 1e-9)
    colours = np.round(np.clip(mean[:, 6:9], 0, 255)).astype(np.uint8)
    return PointCloud(mean[:, :3].astype(np.float32), normals.astype(np.float32), colours)


def _frame_sums(scan: PassState, index: int, spacing_mm: float) -> tuple[np.ndarray, np.ndarray]:
    """Cell keys and sums of one frame; the last column counts the frame once per cell."""
    surface = frame_map(scan, index, edge_keeping=True)
    mask = surface.confidence > 0
    pose = scan.T_object_camera(index)
    points = transform_points(pose, surface.points(mask, surface.unshrunk()).astype(np.float64))
    normals = surface.normals[mask].astype(np.float64) @ pose[:3, :3].T
    image = scan.colour_in_depth_view(index)
    colours = np.full((len(points), 3), 170.0) if image is None else image[mask].astype(np.float64)
    w = surface.confidence[mask].astype(np.float64)[:, None]
    return _cell_sums(points, normals, colours, w, spacing_mm, 1)


def _cloud_sums(scan: PassState, spacing_mm: float, counts_as: int) -> tuple[np.ndarray, np.ndarray]:
    cloud = came_points(scan, cleaned=True, coloured=True).transformed(scan.T_object_pass)
    places, normals, colours = (a.astype(np.float64) for a in (cloud.points, cloud.normals, cloud.colours))
    return _cell_sums(places, normals, colours, np.ones((len(cloud), 1)), spacing_mm, counts_as)


def _cell_sums(
    points: np.ndarray, normals: np.ndarray, colours: np.ndarray, w: np.ndarray, spacing_mm: float, counts_as: int
) -> tuple[np.ndarray, np.ndarray]:
    """Cell keys and sums of some points, weighted by w (n, 1)."""
    strongest = np.abs(normals).argmax(axis=1)
    facing = np.take_along_axis(normals, strongest[:, None], 1)[:, 0] > 0
    keys = voxel_keys(points, spacing_mm) * 2 + facing
    rows = np.concatenate([w, w * points, w * normals, w * colours, np.zeros_like(w)], axis=1)
    keys, sums = _folded([(keys, rows)])
    sums[:, 10] = counts_as
    return keys, sums


def _folded(parts: list[tuple[np.ndarray, np.ndarray]]) -> tuple[np.ndarray, np.ndarray]:
    """Sum the rows of equal keys; keys come out in order."""
    keys = np.concatenate([k for k, _ in parts])
    rows = np.concatenate([r for _, r in parts])
    if not len(keys):
        return keys, rows
    order = np.argsort(keys, kind="stable")
    keys, rows = keys[order], rows[order]
    starts = np.flatnonzero(np.concatenate([[True], keys[1:] != keys[:-1]]))
    return keys[starts], np.add.reduceat(rows, starts, axis=0)
