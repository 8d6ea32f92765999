"""Tracking by shape: poses for a pass whose frames come without any.

Each frame is aligned to the frames just before it and to the nearest earlier ones by the projective
point-to-plane terms that settle uses; the motion of the last two frames predicts the start.
"""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from lucid_relic.alignment import _kernels
from lucid_relic.alignment.motion_model import moved_about
from lucid_relic.alignment.views import STRIDE, FrameView, frame_view
from lucid_relic.errors import StepNotPossible
from lucid_relic.geometry.rigid import inverse
from lucid_relic.progress import Progress
from lucid_relic.types import PassState

REACHES = (24.0, 12.0, 6.0, 3.0)  # in pixel spacings
ROUNDS = 5
RECENT = 3
MIN_SHARE = 0.25
MIN_NORMAL_COS = 0.5


@dataclass(frozen=True)
class Tracked:
    """The pass with its poses, and the frames that could not be tracked (left out)."""

    scan: PassState
    lost: list[int]


def track(scan: PassState, progress: Progress) -> Tracked:
    """Find a pose for every frame; the first frame's camera is the pass's frame."""
    frames = [int(i) for i in scan.frames_used()]
    poses = scan.frame_poses.copy()
    inside = scan.frame_in.copy()
    done: list[tuple[int, FrameView]] = []
    lost: list[int] = []
    for k, index in enumerate(frames):
        progress(k / len(frames), f"Tracking frame {k + 1} of {len(frames)}")
        view = frame_view(scan, index, cleaned=True)
        if not done:
            poses[index] = np.eye(4)
            done.append((index, view))
            continue
        start = _predicted(poses, [i for i, _ in done])
        pose, share = place_frame(view, start, [(poses[i], v) for i, v in _neighbours(done, poses, start)])
        if share < MIN_SHARE:
            lost.append(index)
            inside[index] = False
            continue
        poses[index] = pose
        done.append((index, view))
    if len(done) < 2 and len(frames) > 1:
        raise StepNotPossible(
            f"“{scan.title}”: tracking was lost at the second frame. The steps between frames are too "
            "large to follow by shape; give turntable angles or poses."
        )
    return Tracked(replace(scan, frame_poses=poses, frame_in=inside, posed=True), lost)


def _predicted(poses: np.ndarray, done: list[int]) -> np.ndarray:
    if len(done) < 2:
        return poses[done[-1]]
    return poses[done[-1]] @ inverse(poses[done[-2]]) @ poses[done[-1]]


def _neighbours(done: list[tuple[int, FrameView]], poses: np.ndarray, start: np.ndarray) -> list[tuple[int, FrameView]]:
    """The last few frames and the earlier ones that look the most alike way."""
    recent, earlier = done[-RECENT:], done[:-RECENT]
    facing = [(float(poses[i][:3, 2] @ start[:3, 2]), i, v) for i, v in earlier]
    facing.sort(key=lambda t: -t[0])
    return recent + [(i, v) for _, i, v in facing[:2]]


def place_frame(
    view: FrameView,
    start: np.ndarray,
    neighbours: list[tuple[np.ndarray, FrameView]],
    reaches: Sequence[float] = REACHES,
) -> tuple[np.ndarray, float]:
    """Refined pose of a frame, and the share of its sample that found a partner; reaches are in pixel spacings."""
    pose, share = start, 0.0
    for reach in reaches:
        for _ in range(ROUNDS):
            H, g, centre, best, _, _ = _terms(view, pose, neighbours, reach)
            full = H + np.triu(H, 1).T
            share = best / max(len(view.points), 1)
            if share < 0.05:
                return pose, share
            step = -np.linalg.solve(full + 1e-6 * np.trace(full) * np.eye(6) / 6, g)
            pose = moved_about(step, centre) @ pose
    return pose, share


def residual(view: FrameView, pose: np.ndarray, neighbours: list[tuple[np.ndarray, FrameView]], reach: float) -> float:
    """Weighted rms distance (mm) of a frame's sample to the planes of its neighbours, within `reach` pixel spacings."""
    *_, weight, squares = _terms(view, pose, neighbours, reach)
    return float(np.sqrt(squares / max(weight, 1e-12)))


def _terms(
    view: FrameView, pose: np.ndarray, neighbours: list[tuple[np.ndarray, FrameView]], reach: float
) -> tuple[np.ndarray, np.ndarray, np.ndarray, int, float, float]:
    """Normal equations about a centre, the most partners any neighbour gave, Σw and Σwr²."""
    max_dist = reach * view.spacing_mm
    points = view.points.astype(np.float64) @ pose[:3, :3].T + pose[:3, 3]
    normals = view.point_normals.astype(np.float64) @ pose[:3, :3].T
    centre = points.mean(axis=0) if len(points) else np.zeros(3)
    H, g, best, total, squares = np.zeros((6, 6)), np.zeros(6), 0, 0.0, 0.0
    for other, target in neighbours:
        count, weight, square = _kernels.pair_terms(
            points, normals, view.weights, view.point_light, inverse(other), target.cam, target.rays,
            target.fitted, target.normals, target.confidence, target.light, STRIDE, max_dist,
            max_dist / 3, MIN_NORMAL_COS, centre, 0.0, H, g,
        )  # fmt: skip
        best, total, squares = max(best, count), total + weight, squares + square
    return H, g, centre, best, total, squares
