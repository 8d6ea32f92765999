"""Closing a loop: what a turn gathered in drift is spread over the places on the way (a graph of poses)."""

from dataclasses import dataclass

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.linalg import spsolve

from lucid_relic.geometry.rigid import inverse, motion_vector, orthonormalised, small_motion

ROUNDS = 4  # of Gauss-Newton: drift is small
OUTLIER = 6.0  # times the usual misfit beyond which a tie is not believed


@dataclass(frozen=True)
class Tie:
    """Two places and where the second camera stands in the first one's frame (4, 4), as measured."""

    first: int
    second: int
    motion: np.ndarray


def spread(poses: np.ndarray, ties: list[Tie], away_mm: float, arm_mm: float) -> np.ndarray:
    """Camera poses (n, 4, 4) that fulfil the ties evenly, the first one held.

    Misfits are taken about the object, away_mm before the cameras, where fits are sure of the place and less of the
    turn; turns count at a lever of arm_mm.
    """
    to_object = np.eye(4)
    to_object[2, 3] = away_mm
    back = inverse(to_object)
    ties = [Tie(t.first, t.second, back @ t.motion @ to_object) for t in ties]
    poses = poses @ to_object
    ties = _believed(poses, ties, arm_mm)
    for _ in range(ROUNDS):
        poses = _step(poses, ties, arm_mm)
    return orthonormalised(poses @ back)


def gap_mm(a: np.ndarray, b: np.ndarray, motion: np.ndarray, away_mm: float, arm_mm: float) -> float:
    """How far (mm) two cameras' poses are from a measured motion between them, at the object and at a lever about it."""
    to_object = np.eye(4)
    to_object[2, 3] = away_mm
    back = inverse(to_object)
    misfit = motion_vector(back @ inverse(a) @ b @ inverse(motion) @ to_object)
    return float(np.linalg.norm(misfit[3:]) + arm_mm * np.linalg.norm(misfit[:3]))


def _believed(poses: np.ndarray, ties: list[Tie], arm_mm: float) -> list[Tie]:
    """Ties without those that stand out from all others between places that are no neighbours."""
    gaps = np.array([gap_mm(poses[t.first], poses[t.second], t.motion, 0.0, arm_mm) for t in ties])
    closing = np.array([abs(tie.second - tie.first) > 1 for tie in ties])
    if closing.sum() < 3:
        return ties
    most = OUTLIER * max(float(np.median(gaps[closing])), 1e-6)
    return [tie for tie, gap, far in zip(ties, gaps, closing, strict=True) if not far or gap <= most]


def _misfit(poses: np.ndarray, tie: Tie) -> np.ndarray:
    """(6,) motion that is missing, in the first one's frame."""
    return motion_vector(inverse(poses[tie.first]) @ poses[tie.second] @ inverse(tie.motion))


def _step(poses: np.ndarray, ties: list[Tie], arm_mm: float) -> np.ndarray:
    """One Gauss-Newton step; the unknowns are right perturbations of all poses but the first."""
    scale = np.array([arm_mm] * 3 + [1.0] * 3)
    rows, columns, values, right = [], [], [], []
    for k, tie in enumerate(ties):
        right.append(-scale * _misfit(poses, tie))
        # In the first camera's frame a small motion of the second pose comes as the measured motion turns it.
        moved = _adjoint(inverse(poses[tie.first]) @ poses[tie.second])
        for place, block in ((tie.first, -np.eye(6)), (tie.second, moved)):
            if place > 0:
                r, c = np.meshgrid(np.arange(6), np.arange(6), indexing="ij")
                rows.append((6 * k + r).ravel())
                columns.append((6 * (place - 1) + c).ravel())
                values.append((scale[:, None] * block).ravel())
    A = coo_matrix(
        (np.concatenate(values), (np.concatenate(rows), np.concatenate(columns))), (6 * len(ties), 6 * (len(poses) - 1))
    ).tocsc()
    step = spsolve((A.T @ A).tocsc(), A.T @ np.concatenate(right)).reshape(-1, 6)
    return np.concatenate([poses[:1], [pose @ small_motion(s) for pose, s in zip(poses[1:], step, strict=True)]])


def _adjoint(motion: np.ndarray) -> np.ndarray:
    """(6, 6) what a small motion (turn, shift) becomes in the frame that `motion` leads to."""
    R, t = motion[:3, :3], motion[:3, 3]
    cross = np.array([[0, -t[2], t[1]], [t[2], 0, -t[0]], [-t[1], t[0], 0]])
    out = np.zeros((6, 6))
    out[:3, :3] = out[3:, 3:] = R
    out[3:, :3] = cross @ R
    return out
