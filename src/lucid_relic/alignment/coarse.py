"""Candidate motions from matches most of which are wrong.

Second-order spatial compatibility (Chen et al. 2022, SC²-PCR): two matches agree when they keep
their distance and the angle of their normals; how many matches agree with both is a measure that wrong
pairs cannot fake easily. Each well-supported match seeds a motion; the best distinct ones are kept.
"""

import numpy as np

from lucid_relic.alignment import _coarse_kernels
from lucid_relic.geometry.rigid import inverse
from lucid_relic.types import PointCloud

SEEDS = 300  # matches that start a motion: with 120 part scans with a third in common were refused
MEMBERS = 24  # matches that agree with a seed and are fitted with it: enough that a few wrong ones are outvoted
KEPT = 10  # distinct motions: 20 of 1000 seeds find three more pairs of the trials, but lose part scans
NORMAL_TOLERANCE = np.radians(20)  # rad; what noise turns a normal of a coarse voxel by
DISTINCT_DEG = 10.0  # motions nearer than this end at the same fit when refined


def candidate_motions(fixed: PointCloud, moving: PointCloud, pairs: np.ndarray, voxel_mm: float) -> list[np.ndarray]:
    """Up to `KEPT` distinct T_fixed_moving, most supported first; empty without enough pairs."""
    if len(pairs) < 4:
        return []
    places = ((fixed.points, fixed.normals, pairs[:, 0]), (moving.points, moving.normals, pairs[:, 1]))
    one, two = (np.concatenate([p[n], d[n]], axis=1).T.astype(np.float32, order="C") for p, d, n in places)
    k = len(pairs)
    agree = np.zeros((k, k), np.uint8)
    slack, least, near_sq = np.array([1.5 * voxel_mm, 2.0 * voxel_mm, (2.0 * voxel_mm) ** 2], np.float32)
    min_cos = np.float32(np.cos(NORMAL_TOLERANCE))
    _coarse_kernels.agreeing_pairs(one, two, slack, least, min_cos, agree)
    bits = np.packbits(agree, axis=1)
    words = np.zeros((k, -(-bits.shape[1] // 8) * 8), np.uint8)
    words[:, : bits.shape[1]] = bits
    second, total = np.zeros((k, k), np.uint16), np.zeros(k, np.int64)
    _coarse_kernels.common_friends(agree, words.view(np.uint64), second, total)
    seeds = np.argsort(-total, kind="stable")[:SEEDS]
    motions, support = np.zeros((len(seeds), 3, 4)), np.zeros(len(seeds), np.int64)
    _coarse_kernels.seed_motions(seeds, second, MEMBERS, 2, one, two, near_sq, min_cos, motions, support)
    order = np.argsort(-support, kind="stable")
    return _distinct(motions[order[support[order] > 0]], moving.points.mean(axis=0), voxel_mm)


def _distinct(motions: np.ndarray, centre: np.ndarray, voxel_mm: float) -> list[np.ndarray]:
    """The first of motions (n, 3, 4) and every later one that leads elsewhere than those before it, `KEPT` at the most."""
    left = np.concatenate([motions, np.broadcast_to([[[0.0, 0.0, 0.0, 1.0]]], (len(motions), 1, 4))], axis=1)
    kept: list[np.ndarray] = []
    while len(left) and len(kept) < KEPT:
        kept.append(left[0])
        left = left[~same_place(left[0], left, centre, 4 * voxel_mm)]
    return kept


def same_place(a: np.ndarray, b: np.ndarray, centre: np.ndarray, near_mm: float) -> np.ndarray:
    """Whether motion a (4, 4) puts a body around `centre` at nearly the same place and turn as those of b (…, 4, 4)."""
    moved = inverse(a) @ b
    cos = (np.trace(moved[..., :3, :3], axis1=-2, axis2=-1) - 1) / 2
    shift = np.linalg.norm(moved[..., :3, :3] @ centre + moved[..., :3, 3] - centre, axis=-1)
    return (cos > np.cos(np.radians(DISTINCT_DEG))) & (shift < near_mm)
