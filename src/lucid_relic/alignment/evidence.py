"""What speaks for one motion against another, place by place.

A body that is nearly symmetric fits nearly as well in several turns: all but a small part of it agrees with each, and a
share of the whole drowns what that part says. So two motions are compared where they differ. Both sides are cut into
patches; in each patch every motion has an error, and a motion wins a patch when the other one is off there by
more than the noise explains. What decides is how many patches each wins, after McNemar (1947,
doi:10.1007/BF02295996): places where both are off, at torn edges say, cancel out.

An error is the distance to the other side's surface along the normal, where there is one near, or the greatest one
there is where the other side's frames looked through the place.
"""

from dataclasses import dataclass

import numpy as np

from lucid_relic.alignment import _kernels
from lucid_relic.alignment.fit_result import Side
from lucid_relic.alignment.icp import Target
from lucid_relic.geometry.looks import look_numbers, looks
from lucid_relic.geometry.points import voxel_keys
from lucid_relic.geometry.rigid import inverse
from lucid_relic.types import PointCloud

FRAMES = 12  # of a side asked whether they looked through: evenly spread, so that every place is seen by some
MOST = 4.0  # greatest error, in widths of what two measurements may lie apart
LATERAL = 1.5  # fine voxels between partners side by side: farther ones lie beyond the other side's border
ALONG = 0.7  # of the way to a far partner lies along the normal: then a surface lies in front or behind
MIN_COS = 0.5  # what faces this far away is another side of a thin wall
ASKED = 12_000  # points of a side at the most: several in every patch
OFF = MOST / 2  # error of a patch that contradicts
GROSS = 0.7  # fine voxels: what is off by so much is no error of looking flatly or past an edge, but another shape
LEAD = 1.0  # by how much (in the same widths) an error must be greater to lose a patch


class Witness:
    """One side as a judge of the other: its surface in patches of `patch_mm`, and what some of its frames looked through."""

    def __init__(self, side: Side, target: Target, patch_mm: float) -> None:
        self.target = target
        cloud = target.cloud
        every = -(-len(cloud) // ASKED)
        self.asked = PointCloud(cloud.points[::every], cloud.normals[::every])
        keys = voxel_keys(self.asked.points, patch_mm)
        _, self.patch = np.unique(keys, return_inverse=True)
        self.patches = int(self.patch.max()) + 1
        self.frames: tuple[np.ndarray, np.ndarray, np.ndarray] | None = None
        used = look_numbers(side.scan) if side.scan is not None else np.empty(0, np.int64)
        if len(used):
            chosen = used[np.linspace(0, len(used) - 1, min(FRAMES, len(used))).astype(int)]
            seen = list(looks(side.scan, chosen))
            poses = np.stack([inverse(one.T_pass_camera) for one in seen])
            self.frames = poses, seen[0].camera.as_vector, np.stack([one.depth for one in seen])

    def said_of(
        self, other: PointCloud, T_own_other: np.ndarray, fine_mm: float, within_mm: float
    ) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
        """Of each point of `other` its error (n,) in widths of `within_mm`, NaN where this side says nothing.

        Beside it whether its frames looked through the place, whether its surface is there, and whether it is grossly off.
        """
        reach = MOST * within_mm + LATERAL * fine_mm
        away, cosine, index = self.target.gaps(other, T_own_other, reach)
        moved = other.points @ T_own_other[:3, :3].T.astype(np.float32) + T_own_other[:3, 3].astype(np.float32)
        far = np.linalg.norm(moved - self.target.cloud.points[np.maximum(index, 0)], axis=1)
        known = (index >= 0) & (cosine > MIN_COS) & ((far < LATERAL * fine_mm) | (away > ALONG * far))
        error = np.where(known, np.minimum(away / within_mm, MOST), np.nan).astype(np.float32)
        through = np.zeros(len(other), bool)
        if self.frames is not None:
            normals = other.normals @ T_own_other[:3, :3].T.astype(np.float32)
            agree, against = np.zeros(len(other), np.int32), np.zeros(len(other), np.int32)
            _kernels.gazes(moved, normals, *self.frames, within_mm, MOST * within_mm, agree, against)
            through = against > agree
            error[through] = MOST
        there = known & (far < fine_mm) & (away < MOST * within_mm)
        return error, through, there, through | (known & (away > GROSS * fine_mm))


@dataclass(frozen=True)
class Evidence:
    """The errors (m,) of all patches of both sides under one motion, NaN where nothing is known.

    gross (m,) bool marks patches most of which is off by more than any error of measuring; looked_through is the share
    of the known points that the other side's frames looked through, the worse side's.
    """

    errors: np.ndarray
    gross: np.ndarray
    looked_through: float

    @property
    def known(self) -> int:
        return int(np.isfinite(self.errors).sum())

    @property
    def contradicted(self) -> float:
        """Share of the known patches that are off by more than the noise explains."""
        return float((self.errors > OFF).sum() / max(self.known, 1))

    @property
    def mean(self) -> float:
        """Mean error of the known patches."""
        return float(np.nanmean(self.errors)) if self.known else MOST

    @property
    def worth(self) -> float:
        """Patches that agree, less those that do not: a contradiction outweighs six that agree."""
        return float((self.errors < LEAD).sum() - 6.0 * (self.errors > OFF).sum())

    def against(self, other: "Evidence") -> tuple[int, int]:
        """How many patches this motion wins over the other, and how many it loses."""
        with np.errstate(invalid="ignore"):
            lead = other.errors - self.errors
            return int((lead > LEAD).sum()), int((lead < -LEAD).sum())

    def grossly(self, other: "Evidence") -> tuple[int, int]:
        """How many patches this motion wins because the other is grossly off there, and how many it loses so."""
        with np.errstate(invalid="ignore"):
            lead = other.errors - self.errors
            return int(((lead > LEAD) & other.gross).sum()), int(((lead < -LEAD) & self.gross).sum())


def evidence(
    fixed: Witness, moving: Witness, motion: np.ndarray, fine_mm: float, within_mm: float, every: int = 1
) -> Evidence:
    """What both sides say about T_fixed_moving, asked at every n-th of their points."""
    parts, gross, through = [], [], []
    for judge, judged, T in ((fixed, moving, motion), (moving, fixed, inverse(motion))):
        error, looked, _, far_off = judge.said_of(judged.asked.every(every), T, fine_mm, within_mm)
        known, patch = np.isfinite(error), judged.patch[::every]
        count = np.bincount(patch[known], minlength=judged.patches)
        total = np.bincount(patch[known], error[known], minlength=judged.patches)
        with np.errstate(invalid="ignore"):
            parts.append(np.where(count > 0, total / count, np.nan))
        gross.append(2 * np.bincount(patch[known & far_off], minlength=judged.patches) > count)
        through.append(float(looked.sum() / max(known.sum(), 1)))
    return Evidence(np.concatenate(parts).astype(np.float32), np.concatenate(gross), max(through))


def common_share(fixed: Witness, moving: Witness, motion: np.ndarray, fine_mm: float, within_mm: float) -> float:
    """Share (0-1) of the smaller side's surface that the other side has too."""
    shares = []
    for judge, judged, T in ((fixed, moving, motion), (moving, fixed, inverse(motion))):
        _, _, there, _ = judge.said_of(judged.asked, T, fine_mm, within_mm)
        shares.append(float(there.mean()))
    return max(shares)
