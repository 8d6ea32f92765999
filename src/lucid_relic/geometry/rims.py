"""Where a measured surface ends: its open borders, the steps to what lies behind, and rims seen nearly from the side."""

import numpy as np
from scipy.ndimage import distance_transform_cdt
from scipy.spatial import cKDTree

from lucid_relic.geometry.depth_map import DepthMap
from lucid_relic.types import PointCloud

STEP_PIXELS = 6.0  # pixel spacings between neighbouring pixels: no surface that is measured slants so much
STEP_NOISES = 8.0  # widths of the noise, likewise
FARTHEST = 255  # pixels off a rim that are told apart
NEIGHBOURS = 16  # of a point are asked on which sides they lie
OPEN_DEG = 120.0  # around a point without a neighbour: there the surface ends


def pixels_off_rim(surface: DepthMap) -> np.ndarray:
    """(h, w) uint8: how many pixels each lies off the nearest place where measuring ended, 1 beside it, 0 where nothing is.

    The picture's own edge ends nothing.
    """
    depth = surface.depth
    measured = depth > 0
    step = STEP_PIXELS * depth / surface.camera.fx + STEP_NOISES * surface.noise_mm
    whole = measured.copy()
    for axis in (0, 1):
        near, far = (slice(None, -1), slice(1, None)) if axis == 0 else (np.s_[:, :-1], np.s_[:, 1:])
        both = measured[near] & measured[far]
        torn = both & (np.abs(depth[near] - depth[far]) > np.minimum(step[near], step[far]))
        whole[near] &= ~torn
        whole[far] &= ~torn
    if whole.all():
        return np.full(depth.shape, FARTHEST, np.uint8)
    # What is not whole is a hole, or lies beside a step: the pixels beside a step count as those beside a hole do.
    away = distance_transform_cdt(np.pad(whole, 1, mode="edge"), "chessboard")[1:-1, 1:-1]
    off_hole = distance_transform_cdt(np.pad(measured, 1, mode="edge"), "chessboard")[1:-1, 1:-1]
    off = away + 1 if measured.all() else np.minimum(off_hole, away + 1)
    return np.clip(np.where(measured & ~whole, 1, off), 0, FARTHEST).astype(np.uint8)


def spacings_off_rim(cloud: PointCloud, spacing_mm: float) -> np.ndarray:
    """(n,) uint8: how many spacings each point with a normal lies off the nearest border, 1 on it."""
    points = cloud.points.astype(np.float64)
    if len(points) <= NEIGHBOURS:
        return np.full(len(points), FARTHEST, np.uint8)
    _, index = cKDTree(points).query(points, k=NEIGHBOURS + 1, workers=-1)
    apart = points[index[:, 1:]] - points[:, None]
    normal = cloud.normals.astype(np.float64)
    helper = np.eye(3)[np.argmin(np.abs(normal), axis=1)]
    side = np.cross(normal, helper)
    side /= np.maximum(np.linalg.norm(side, axis=1, keepdims=True), 1e-12)
    other = np.cross(normal, side)
    angle = np.sort(np.arctan2(np.einsum("nkj,nj->nk", apart, other), np.einsum("nkj,nj->nk", apart, side)), axis=1)
    gap = np.maximum(np.diff(angle, axis=1).max(axis=1), 2 * np.pi - (angle[:, -1] - angle[:, 0]))
    border = gap > np.radians(OPEN_DEG)
    if not border.any():
        return np.full(len(points), FARTHEST, np.uint8)
    away, _ = cKDTree(points[border]).query(points, workers=-1)
    return np.clip(np.floor(away / max(spacing_mm, 1e-9) + 0.5) + 1, 1, FARTHEST).astype(np.uint8)
