"""Passes of points in a fusion: the signed distance to a locally weighted plane of oriented points.

After Kolluri (2008, doi:10.1145/1361192.1361195): the distance at a place is the weighted mean of the distances to the planes of the
points around it. Departures: it is asked next to the surface, so that points beside a far voxel count as much as
below it; half of it is the distance to the mean plane, which takes the bend of the surface out; and where the
points end the field ends. Weights fall with a point's own spacing and with the noise of its pass.
"""

from dataclasses import dataclass

import numpy as np

from lucid_relic.fusion import _cloud_kernels, _kernels
from lucid_relic.geometry.pass_points import came_points
from lucid_relic.geometry.point_grid import PointGrid
from lucid_relic.geometry.points import thin, voxel_keys
from lucid_relic.progress import Progress
from lucid_relic.types import PassState, PointCloud

WIDTH_SPACINGS = 1.5  # spacings of the points that weights are wide: some fourteen points are averaged
WIDTH_VOXELS = 0.75  # voxels at the least: points denser than that are averaged within one
BLOCKS_AT_ONCE = 4000  # between two words of progress: some tenths of a second
DENSE_VOXELS = 0.4  # between points: denser ones are averaged before they are asked a thousand times
NEAR_VOXELS = 0.6  # between the points that say which part of the surface a voxel is near to
LOCATING_VOXELS = 2.0  # between the points that find the blocks


@dataclass(frozen=True)
class PointsToFuse:
    """Points of all placed passes of points in the object's frame, with the width (mm) and the worth of each."""

    cloud: PointCloud
    width: np.ndarray
    quality: np.ndarray

    def __len__(self) -> int:
        return len(self.cloud)


def points_to_fuse(
    passes: tuple[PassState, ...], voxel_mm: float, best_noise_mm: float, least_quality: float
) -> PointsToFuse:
    """The kept points of the passes of points; a noisier pass counts for less, as a noisier pass of frames does.

    The worth of a point is what weighs it against a frame's pixel: one of a scan as fine as the voxel counts as one.
    """
    clouds, width, quality = [], [np.empty(0, np.float32)], [np.empty(0, np.float32)]
    for scan in passes:
        if scan.cloud is None:
            continue
        cloud = came_points(scan, cleaned=True, coloured=True).transformed(scan.T_object_pass)
        wide = max(WIDTH_SPACINGS * scan.cloud.spacing_mm, WIDTH_VOXELS * voxel_mm)
        trust = 1.0 if scan.noise_mm <= 0 else max((best_noise_mm / scan.noise_mm) ** 2, least_quality)
        count = np.ones(len(cloud))
        if scan.cloud.spacing_mm < DENSE_VOXELS * voxel_mm:
            cloud, count = _averaged(cloud, DENSE_VOXELS * voxel_mm)
        clouds.append(cloud)
        width.append(np.full(len(cloud), wide, np.float32))
        quality.append((count * trust * voxel_mm**2 / np.pi).astype(np.float32))
    empty = np.empty((0, 3), np.float32)
    stack = lambda name, none: np.concatenate([none, *(getattr(c, name) for c in clouds)])  # noqa: E731
    cloud = PointCloud(stack("points", empty), stack("normals", empty), stack("colours", empty.astype(np.uint8)))
    return PointsToFuse(cloud, np.concatenate(width), np.concatenate(quality))


def _averaged(cloud: PointCloud, cell_mm: float) -> tuple[PointCloud, np.ndarray]:
    """One point for each cell and side that it faces, and how many it stands for: thin walls keep both sides."""
    _, group = np.unique(_sided_keys(cloud, cell_mm), return_inverse=True)
    count = np.bincount(group)
    mean = lambda values: np.stack([np.bincount(group, values[:, c]) / count for c in range(3)], axis=1)  # noqa: E731
    normals = mean(cloud.normals)
    normals /= np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-9)
    colours = np.round(mean(cloud.colours)).astype(np.uint8)
    return PointCloud(mean(cloud.points).astype(np.float32), normals.astype(np.float32), colours), count


def _sided_keys(cloud: PointCloud, cell_mm: float) -> np.ndarray:
    """(n,) int64: equal for points of one cell that face the same way along their strongest axis."""
    axis = np.abs(cloud.normals).argmax(axis=1)
    positive = np.take_along_axis(cloud.normals, axis[:, None], 1)[:, 0] > 0
    return voxel_keys(cloud.points, cell_mm) * 6 + axis * 2 + positive


def block_keys(points: PointsToFuse, origin: np.ndarray, voxel_mm: float, truncation_mm: float) -> np.ndarray:
    """Keys, in order, of the blocks within the truncation of any point."""
    if not len(points):
        return np.empty(0, np.int64)
    places = thin(PointCloud(points.cloud.points), LOCATING_VOXELS * voxel_mm).points.astype(np.float64)
    found = np.empty(0, np.int64)
    for step in np.stack(np.meshgrid(*[(-1, 0, 1)] * 3, indexing="ij"), axis=-1).reshape(-1, 3):
        block = (
            np.floor((places + step * truncation_mm - origin) / (8 * voxel_mm)).astype(np.int64) + _kernels.HALF_SPAN
        )
        keys = block[:, 0] << 42 | block[:, 1] << 21 | block[:, 2]
        found = np.unique(np.concatenate([found, keys]))
    return found


def add_points(
    points: PointsToFuse, coords: np.ndarray, field: tuple[np.ndarray, np.ndarray, np.ndarray], origin: np.ndarray,
    voxel_mm: float, truncation_mm: float, behind_mm: float, keep_edges: bool, progress: Progress,
) -> None:  # fmt: skip
    """Join what the points tell into the distance, weight and colour of blocks (b, 3)."""
    some = np.unique(_sided_keys(points.cloud, NEAR_VOXELS * voxel_mm), return_index=True)[1]
    coarse = PointGrid(points.cloud.points[some]).cells(truncation_mm)
    fine = PointGrid(points.cloud.points).cells(_cloud_kernels.REACH_WIDTHS * float(points.width.max()))
    near = (*coarse.arrays, points.cloud.normals[some[coarse.order]], points.width[some[coarse.order]])
    around = (
        *fine.arrays, points.cloud.normals[fine.order], points.width[fine.order], points.quality[fine.order],
        points.cloud.colours[fine.order],
    )  # fmt: skip
    plan = (origin, voxel_mm, truncation_mm, behind_mm, keep_edges)
    for first in range(0, len(coords), BLOCKS_AT_ONCE):
        progress(first / len(coords), "Fusing points")
        part = slice(first, first + BLOCKS_AT_ONCE)
        size = (len(coords[part]), 512)
        told = np.zeros(size, np.float32), np.zeros(size, np.float32), np.zeros((*size, 3), np.float32)
        _cloud_kernels.fuse_points(coords[part], *plan, *near, *around, *told)
        _cloud_kernels.join_fields(*(f[part] for f in field), *told)
