"""Fine registration of two point sets: point-to-plane with a Geman-McClure kernel, coarse to fine."""

from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree

from lucid_relic.geometry.rigid import small_motion, transform_points
from lucid_relic.types import PointCloud

MIN_NORMAL_COS = 0.6


@dataclass(frozen=True)
class IcpResult:
    """T_fixed_moving, share of moving points with a partner, rms of partners (mm), information (6, 6)."""

    T_fixed_moving: np.ndarray
    inlier_share: float
    rms_mm: float
    information: np.ndarray


def icp(
    fixed: PointCloud,
    tree: cKDTree,
    moving: PointCloud,
    start: np.ndarray,
    reach_mm: float,
    iterations: int = 20,
    final_reach_mm: float | None = None,
) -> IcpResult:
    """Refine `start` (T_fixed_moving); the reach shrinks geometrically to `final_reach_mm`."""
    motion = start.copy()
    last = final_reach_mm or reach_mm
    centre = transform_points(motion, moving.points).mean(axis=0).astype(np.float64)
    share, rms, information = 0.0, float("inf"), np.zeros((6, 6))
    for k in range(iterations):
        reach = reach_mm * (last / reach_mm) ** (k / max(iterations - 1, 1))
        points = transform_points(motion, moving.points)
        distance, index = tree.query(points, distance_upper_bound=reach, workers=-1)
        ok = np.isfinite(distance)
        n = fixed.normals[np.where(ok, index, 0)].astype(np.float64)
        ok &= np.einsum("ij,ij->i", moving.normals @ motion[:3, :3].T, n) > MIN_NORMAL_COS
        if ok.sum() < 6:
            break
        p, q, n = points[ok].astype(np.float64), fixed.points[index[ok]].astype(np.float64), n[ok]
        residual = np.einsum("ij,ij->i", p - q, n)
        scale = reach / 3
        w = (scale**2 / (scale**2 + residual**2)) ** 2
        jacobian = np.concatenate([np.cross(p - centre, n), n], axis=1)
        information = jacobian.T @ (jacobian * w[:, None])
        damping = 1e-9 * np.trace(information) * np.eye(6)
        step = -np.linalg.solve(information + damping, jacobian.T @ (w * residual))
        move = small_motion(step)
        move[:3, 3] += centre - move[:3, :3] @ centre
        motion = move @ motion
        share, rms = float(ok.mean()), float(np.sqrt((w * residual**2).sum() / w.sum()))
        if np.abs(step).max() < 1e-7 and k > 4:
            break
    return IcpResult(motion, share, rms, information)
