"""Candidate motions from matches most of which are wrong.

Second-order spatial compatibility (Chen et al. 2022, SC²-PCR): two matches agree when they keep
their distance and the angle of their normals; how many matches agree with both is a measure that wrong
pairs cannot fake easily. Each well-supported match seeds a motion; the best distinct ones are kept.
"""

from dataclasses import dataclass

import numpy as np

from lucid_relic.alignment import _coarse_kernels
from lucid_relic.geometry.rigid import inverse
from lucid_relic.types import PointCloud

SEEDS = 300  # matches that start a motion: with 120 part scans with a third in common were refused
MEMBERS = 24  # matches that agree with a seed and are fitted with it: enough that a few wrong ones are outvoted
KEPT = 10  # distinct motions: 20 of 1000 seeds find three more pairs of the trials, but lose part scans
LOOKS = 3  # further ones among matches that no motion so far explains: the third found the right one at the latest
FAR_VOXELS = 6.0  # a match this far from where every motion puts it is explained by none: nearer ones slid along a face
LEAST_LEFT = 20  # matches worth another look
MIN_COS = np.float32(np.cos(np.radians(20)))  # what noise turns a normal of a coarse voxel by
DISTINCT_DEG = 10.0  # motions nearer than this end at the same fit when refined


@dataclass(frozen=True)
class _Matches:
    """Matches' places and normals (6, k) float32 on both sides, and how many friends each two agreeing ones share (k, k)."""

    one: np.ndarray
    two: np.ndarray
    shared: np.ndarray

    def some(self, chosen: np.ndarray) -> "_Matches":
        """Those of the numbers (m,) or the mask (k,)."""
        one, two = (np.ascontiguousarray(side[:, chosen]) for side in (self.one, self.two))
        return _Matches(one, two, self.shared[np.ix_(chosen, chosen)])

    def away(self, motion: np.ndarray) -> np.ndarray:
        """How far (k,) mm a motion puts each match's place of `two` from that of `one`."""
        turn, shift = motion[:3, :3].astype(np.float32), motion[:3, 3:].astype(np.float32)
        return np.linalg.norm(turn @ self.two[:3] + shift - self.one[:3], axis=0)

    def motions(self, total: np.ndarray, near_sq: np.float32) -> np.ndarray:
        """Motions (n, 4, 4) that the matches with the most friends in `total` (k,) start, the most supported first."""
        seeds = np.argsort(-total, kind="stable")[:SEEDS]
        motions, support = np.zeros((len(seeds), 3, 4)), np.zeros(len(seeds), np.int64)
        _coarse_kernels.seed_motions(
            seeds, self.shared, MEMBERS, 2, self.one, self.two, near_sq, MIN_COS, motions, support
        )
        order = np.argsort(-support, kind="stable")
        motions = motions[order[support[order] > 0]]
        return np.concatenate([motions, np.broadcast_to([[[0.0, 0.0, 0.0, 1.0]]], (len(motions), 1, 4))], axis=1)


def candidate_motions(fixed: PointCloud, moving: PointCloud, pairs: np.ndarray, voxel_mm: float) -> list[np.ndarray]:
    """Up to `KEPT` distinct T_fixed_moving, most supported first, and up to `LOOKS` that the other matches say.

    Of a body whose halves are alike, of which each side saw another half, nearly all matches say the wrong motion: what
    the few say that it leaves unexplained is a rival to be told. Empty without enough pairs.
    """
    if len(pairs) < 4:
        return []
    matches, total = _agreeing(fixed, moving, pairs, voxel_mm)
    near_sq = np.float32((2.0 * voxel_mm) ** 2)
    centre, near_mm = moving.points.mean(axis=0), 4 * voxel_mm
    kept = _distinct(matches.motions(total, near_sq), centre, near_mm)
    explained = kept
    for _ in range(LOOKS):
        for motion in explained:
            matches = matches.some(matches.away(motion) > FAR_VOXELS * voxel_mm)
        if len(matches.shared) < LEAST_LEFT:
            break
        found = matches.motions(matches.shared.sum(axis=1, dtype=np.int64), near_sq)
        explained = [m for m in found if not any(same_place(k, m, centre, near_mm) for k in kept)][:1]
        if not explained:
            break
        kept += explained
    return kept


def _agreeing(fixed: PointCloud, moving: PointCloud, pairs: np.ndarray, voxel_mm: float) -> tuple[_Matches, np.ndarray]:
    """The matches, and how many friends each shares with those it agrees with (k,) in all."""
    places = ((fixed.points, fixed.normals, pairs[:, 0]), (moving.points, moving.normals, pairs[:, 1]))
    one, two = (np.concatenate([p[n], d[n]], axis=1).T.astype(np.float32, order="C") for p, d, n in places)
    k = len(pairs)
    agree = np.zeros((k, k), np.uint8)
    slack, least = np.array([1.5 * voxel_mm, 2.0 * voxel_mm], np.float32)
    _coarse_kernels.agreeing_pairs(one, two, slack, least, MIN_COS, agree)
    bits = np.packbits(agree, axis=1)
    words = np.zeros((k, -(-bits.shape[1] // 8) * 8), np.uint8)
    words[:, : bits.shape[1]] = bits
    shared, total = np.zeros((k, k), np.uint16), np.zeros(k, np.int64)
    _coarse_kernels.common_friends(agree, words.view(np.uint64), shared, total)
    return _Matches(one, two, shared), total


def _distinct(motions: np.ndarray, centre: np.ndarray, near_mm: float) -> list[np.ndarray]:
    """The first of motions (n, 4, 4) and every later one that leads elsewhere than those before it, `KEPT` at the most."""
    kept: list[np.ndarray] = []
    while len(motions) and len(kept) < KEPT:
        kept.append(motions[0])
        motions = motions[~same_place(motions[0], motions, centre, near_mm)]
    return kept


def same_place(a: np.ndarray, b: np.ndarray, centre: np.ndarray, near_mm: float) -> np.ndarray:
    """Whether motion a (4, 4) puts a body around `centre` at nearly the same place and turn as those of b (…, 4, 4)."""
    moved = inverse(a) @ b
    cos = (np.trace(moved[..., :3, :3], axis1=-2, axis2=-1) - 1) / 2
    shift = np.linalg.norm(moved[..., :3, :3] @ centre + moved[..., :3, 3] - centre, axis=-1)
    return (cos > np.cos(np.radians(DISTINCT_DEG))) & (shift < near_mm)
