"""Candidate motions from matches most of which are wrong.

Second-order spatial compatibility (Chen et al. 2022, SC²-PCR): two matches agree when they keep
their distance and the angle of their normals; how many matches agree with both is a measure that wrong
pairs cannot fake easily. Each well-supported match seeds a motion; the best distinct ones are kept.
"""

import numpy as np

from lucid_relic.geometry.rigid import difference, fit_rigid, inverse, transform_points
from lucid_relic.types import PointCloud

SEEDS = 300
MEMBERS = 24
KEPT = 10
NORMAL_TOLERANCE = np.radians(20)
DISTINCT_DEG = 10.0


def candidate_motions(fixed: PointCloud, moving: PointCloud, pairs: np.ndarray, voxel_mm: float) -> list[np.ndarray]:
    """Up to `KEPT` distinct T_fixed_moving, most supported first; empty without enough pairs."""
    if len(pairs) < 4:
        return []
    a, b = fixed.points[pairs[:, 0]], moving.points[pairs[:, 1]]
    na, nb = fixed.normals[pairs[:, 0]], moving.normals[pairs[:, 1]]
    second = _second_order(a, b, na, nb, voxel_mm)
    seeds = np.argsort(-second.sum(axis=1), kind="stable")[:SEEDS]
    found = []
    for seed in seeds:
        members = np.argsort(-second[seed], kind="stable")[:MEMBERS]
        members = members[second[seed, members] > 0]
        if len(members) < 3:
            continue
        motion = fit_rigid(b[members].astype(np.float64), a[members].astype(np.float64))
        for _ in range(2):
            inside = _agreeing(motion, a, b, na, nb, voxel_mm)
            if inside.sum() >= 3:
                motion = fit_rigid(b[inside].astype(np.float64), a[inside].astype(np.float64))
        found.append((int(_agreeing(motion, a, b, na, nb, voxel_mm).sum()), motion))
    return _distinct(found, moving.points.mean(axis=0), voxel_mm)


def _second_order(a: np.ndarray, b: np.ndarray, na: np.ndarray, nb: np.ndarray, voxel_mm: float) -> np.ndarray:
    lengths = _distances(a) - _distances(b)
    agree = np.abs(lengths) < 1.5 * voxel_mm
    agree &= _distances(a) > 2.0 * voxel_mm
    turn = np.arccos(np.clip(na @ na.T, -1, 1)) - np.arccos(np.clip(nb @ nb.T, -1, 1))
    agree &= np.abs(turn) < NORMAL_TOLERANCE
    first = agree.astype(np.float32)
    return first * (first @ first)


def _distances(points: np.ndarray) -> np.ndarray:
    squared = (points**2).sum(axis=1)
    return np.sqrt(np.maximum(squared[:, None] + squared[None] - 2 * points @ points.T, 0))


def _agreeing(
    motion: np.ndarray, a: np.ndarray, b: np.ndarray, na: np.ndarray, nb: np.ndarray, voxel_mm: float
) -> np.ndarray:
    near = np.linalg.norm(transform_points(motion, b) - a, axis=1) < 2.0 * voxel_mm
    return near & (np.einsum("ij,ij->i", nb @ motion[:3, :3].T, na) > np.cos(NORMAL_TOLERANCE))


def _distinct(found: list[tuple[int, np.ndarray]], centre: np.ndarray, voxel_mm: float) -> list[np.ndarray]:
    kept: list[np.ndarray] = []
    for _, motion in sorted(found, key=lambda f: -f[0]):
        if all(not same_place(motion, other, centre, 4 * voxel_mm) for other in kept):
            kept.append(motion)
        if len(kept) == KEPT:
            break
    return kept


def same_place(a: np.ndarray, b: np.ndarray, centre: np.ndarray, near_mm: float) -> bool:
    """True when two motions put a body around `centre` at nearly the same place and turn."""
    turn, _ = difference(a, b)
    moved = inverse(a) @ b
    shift = np.linalg.norm(moved[:3, :3] @ centre + moved[:3, 3] - centre)
    return bool(turn < DISTINCT_DEG and shift < near_mm)
