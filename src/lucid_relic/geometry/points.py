"""Thinning point sets on a voxel grid."""

import numpy as np

from lucid_relic.geometry import _kernels
from lucid_relic.types import PointCloud


def voxel_keys(points: np.ndarray, voxel_mm: float) -> np.ndarray:
    """(n,) int64 key of the voxel each point lies in; equal keys mean the same voxel."""
    cell = np.floor(points / voxel_mm).astype(np.int64) + (1 << 20)
    return (cell[:, 0] << 42) | (cell[:, 1] << 21) | cell[:, 2]


def extent_mm(cloud: PointCloud) -> float:
    """Diagonal of the box that holds all but the outermost hundredth of the points on each side."""
    low, high = np.percentile(cloud.points, [1, 99], axis=0)
    return float(np.linalg.norm(high - low))


def thin(cloud: PointCloud, voxel_mm: float, weights: np.ndarray | None = None) -> PointCloud:
    """One point per voxel, ordered by voxel: the weighted mean of position, normal and colour."""
    return thin_with_origin(cloud, voxel_mm, weights)[0]


def thin_with_origin(
    cloud: PointCloud, voxel_mm: float, weights: np.ndarray | None = None
) -> tuple[PointCloud, np.ndarray, np.ndarray]:
    """As `thin`, with the index (n,) of the first point in every voxel and the group (m,) that each point fell into."""
    if not len(cloud):
        return cloud, np.empty(0, np.int64), np.empty(0, np.int64)
    _, first, group = np.unique(voxel_keys(cloud.points, voxel_mm), return_index=True, return_inverse=True)
    w = np.ones(len(cloud)) if weights is None else weights.astype(np.float64)
    total = np.bincount(group, w)[:, None]

    def mean(values: np.ndarray) -> np.ndarray:
        sums = np.zeros((len(total), values.shape[1]))
        _kernels.add_by_group(group, w, values, sums)
        return sums / total

    normals = None
    if cloud.normals is not None:
        normals = mean(cloud.normals)
        normals /= np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-9)
        normals = normals.astype(np.float32)
    colours = None if cloud.colours is None else mean(cloud.colours).round().astype(np.uint8)
    return PointCloud(mean(cloud.points).astype(np.float32), normals, colours), first, group
