"""Frames of a pass by hand that nothing holds in some direction: a flat face alone in view may slide along itself.

The normal equations of all frames say how well each motion of a frame is held. The worst held one, measured by how far
it moves what the frame sees, is the frame's play. What lies loose spoils nothing of the face it sees, but the rims of that
face, and its colours. So it is left out where others, that are held, see the same.
"""

import numpy as np

from lucid_relic.alignment import _kernels
from lucid_relic.alignment.joint import JointFrames, equations, weight_of_residuals
from lucid_relic.alignment.keyframes import Followed
from lucid_relic.alignment.marker_ties import held_by_nothing_else
from lucid_relic.alignment.play import play_mm
from lucid_relic.alignment.views import FrameView
from lucid_relic.geometry.rigid import inverse, transform_points
from lucid_relic.types import PassState

# A plane alone has 1.0 to 1.9: the noise of its normals seems to hold it. Frames with less were off by under a third of a pixel.
LOOSE_SPACINGS = 0.9
# Of the mean hold: how a frame is held at the least, so that its play is finite, and how that one is which stands for all.
LEAST_HELD, STANDS = 1e-9, 1e6
LEAST_MEAN = 1e-6  # 1/mm²: where no frame shares anything with another
SEEN_SHARE, SEEN_TIMES = 0.98, 2  # of what a frame sees, by so many held ones, for it not to be missed
ASKED = 40  # held frames that look the most alike way are asked whether they see the same
WITHIN_NOISES, WITHIN_SPACINGS = 3.0, 1.0  # along the normal: nearer they see the same surface
FACING_COS = np.cos(np.radians(80.0))


def keyframe_plays(problem: JointFrames, pairs: list[tuple[int, int]], max_dist: float, scale: float) -> np.ndarray:
    """The play (n,) mm of each keyframe: none where a table or markers hold the pass.

    The others of its pass are free too, since neighbours that see the same face slide along it together.
    """
    plays = np.zeros(len(problem.owner))
    poses, hessian = problem.poses(), None
    for n, scan in enumerate(problem.passes):
        own = np.flatnonzero(np.array(problem.owner) == n)
        if not held_by_nothing_else(scan) or not len(own):
            continue
        if hessian is None:
            hessian = equations(problem, poses, pairs, max_dist, scale).hessian
        rows = slice(6 * own[0], 6 * own[-1] + 6)
        seen = [transform_points(poses[k], problem.views[k].points) - problem.centre for k in own]
        plays[own] = plays_among(hessian[rows, rows].toarray(), seen)
    return plays


def plays_among(hessian: np.ndarray, seen: list[np.ndarray]) -> np.ndarray:
    """The play (n,) mm of frames that see points (…, 3), against the best held of them, while all the others give way.

    hessian (6n, 6n) are the normal equations of all.
    """
    n = len(seen)
    blocks = [slice(6 * k, 6 * k + 6) for k in range(n)]
    alone = [play_mm(hessian[b, b], points) if len(points) else np.inf for b, points in zip(blocks, seen, strict=True)]
    first = int(np.argmin(alone))
    best = blocks[first]
    mean = max(np.trace(hessian) / len(hessian), LEAST_MEAN)
    fixed = hessian + LEAST_HELD * mean * np.eye(6 * n)
    fixed[best, best] += STANDS * mean * np.eye(6)
    spread = np.linalg.inv(fixed)
    holds = [np.linalg.inv(spread[b, b]) for b in blocks]
    plays = np.array([play_mm(h, points) if len(points) else 0.0 for h, points in zip(holds, seen, strict=True)])
    plays[first] = 0.0
    return plays


def followed_plays(problem: JointFrames, scan: PassState, rest: Followed) -> np.ndarray:
    """The play (m,) mm of frames that were laid onto keyframes: none where a table or markers hold the pass."""
    if not held_by_nothing_else(scan):
        return np.zeros(len(rest.frames))
    return np.array([p / np.sqrt(weight_of_residuals(problem, n)) for p, n in zip(rest.play, rest.onto, strict=True)])


def is_loose(play: np.ndarray, spacing_mm: float) -> np.ndarray:
    """Whether frames of so much play (n,) mm lie loose, at so far between pixels."""
    return play > LOOSE_SPACINGS * spacing_mm


def seen_by_others(view: FrameView, pose: np.ndarray, others: list[tuple[np.ndarray, FrameView]]) -> bool:
    """Whether the others, given as poses and views, see all that a frame sees and that is there by what they saw."""
    alike = np.array([other[:3, 2] @ pose[:3, 2] for other, _ in others])
    asked = [others[k] for k in np.argsort(-alike, kind="stable")[:ASKED] if alike[k] > FACING_COS]
    if not asked or not len(view.points):
        return False
    points = transform_points(pose, view.points).astype(np.float32)
    normals = (view.point_normals @ pose[:3, :3].T).astype(np.float32)
    within = WITHIN_NOISES * view.noise_mm + WITHIN_SPACINGS * view.spacing_mm
    agree, against = np.zeros(len(points), np.int32), np.zeros(len(points), np.int32)
    _kernels.gazes(
        points, normals, np.stack([inverse(T) for T, _ in asked]), view.half_cam,
        np.stack([v.fitted for _, v in asked]), within, 2 * within, agree, against,
    )  # fmt: skip
    # What was looked through is not there: it will not be missed.
    return bool(((agree >= SEEN_TIMES) | (against > 0)).mean() >= SEEN_SHARE)
