"""Keyframes of a hand-held pass: enough frames to hold all others, which then follow them."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from lucid_relic.alignment.marker_ties import held_by_markers
from lucid_relic.alignment.place_frame import normal_equations, place_frame, residual
from lucid_relic.alignment.play import play_mm
from lucid_relic.alignment.views import FrameView
from lucid_relic.geometry.depth_map import typical_depth
from lucid_relic.geometry.rigid import inverse, motion_vector, small_motion, transform_points
from lucid_relic.progress import Progress
from lucid_relic.types import PassState

FEWEST = 48  # a pass with no more frames than this keeps them all
MOST = 400  # the steps are widened until no more are needed
STEP_DEG = 4.0  # of the head between keyframes: neighbours still share nine tenths of what they see
STEP_SHARE = 0.05  # of the distance to the object
FOLLOW_DISTANCES = (6.0, 3.0)  # in pixel spacings


def keyframes(scan: PassState) -> np.ndarray:
    """Frames of a pass that are in and far enough from the one before; all of a turntable's."""
    frames = scan.frames_used()
    if scan.turntable is not None or len(frames) <= FEWEST:
        return frames
    distance = typical_depth(scan.source.depth(int(frames[0])))
    wider = 1.0
    while True:
        chosen = _stepped(scan, frames, wider * STEP_DEG, wider * STEP_SHARE * distance, distance)
        if len(chosen) <= MOST:
            return chosen
        wider *= 1.3


def _stepped(scan: PassState, frames: np.ndarray, degrees: float, mm: float, distance: float) -> np.ndarray:
    """The first and last frame, and each that is a step away from the one chosen before it."""
    chosen = [frames[0]]
    for index in frames[1:-1]:
        moved = inverse(scan.frame_poses[chosen[-1]]) @ scan.frame_poses[index]
        turned = np.degrees(np.linalg.norm(motion_vector(moved)[:3]))
        # What the head travels while it turns about the object is no step of its own.
        slid = np.linalg.norm(moved[:3, :3] @ [0, 0, distance] + moved[:3, 3] - [0, 0, distance])
        if turned > degrees or slid > mm:
            chosen.append(index)
    return np.array([*chosen, frames[-1]])


@dataclass(frozen=True)
class Followed:
    """Frames (m,) laid onto the keyframes next to them: poses (m, 4, 4) in the pass, residuals (m,) mm before and after.

    play (m,) is `play_mm` of each were its residuals to count 1 each, and onto (m,) how many keyframes it was laid onto.
    """

    frames: np.ndarray
    poses: np.ndarray
    before_mm: np.ndarray
    after_mm: np.ndarray
    play: np.ndarray
    onto: np.ndarray


def follow(
    before: PassState,
    after: PassState,
    keys: np.ndarray,
    views: Sequence[FrameView],
    read: Callable[[PassState, int], FrameView],
    progress: Progress,
) -> Followed:
    """Lay the frames that are in but no keyframes onto the settled keyframes next to them.

    views are the keyframes'; read gives the view of any other frame of the same kind.
    """
    rest = np.setdiff1d(before.frames_used(), keys)
    poses, was, now = np.empty((len(rest), 4, 4)), np.zeros(len(rest)), np.zeros(len(rest))
    play, onto = np.zeros(len(rest)), np.zeros(len(rest), int)
    for n, index in enumerate(map(int, rest)):
        progress(n / len(rest), f"Laying frame {n + 1} of {len(rest)} onto its keyframes")
        view = read(before, index)
        right = int(np.searchsorted(keys, index))
        near = range(max(right - 2, 0), min(right + 2, len(keys)))
        old = [(before.frame_poses[keys[k]], views[k]) for k in near]
        new = [(after.frame_poses[keys[k]], views[k]) for k in near]
        a, b = keys[right - 1], keys[right]
        move = [after.frame_poses[k] @ inverse(before.frame_poses[k]) for k in (a, b)]
        share = (index - a) / (b - a)
        between = move[0] @ small_motion(share * motion_vector(inverse(move[0]) @ move[1]))
        start = between @ before.frame_poses[index]
        # Where markers hold a pass its shape may say nothing.
        pose = start if held_by_markers(before) else place_frame(view, start, new, FOLLOW_DISTANCES)[0]
        poses[n] = pose
        was[n] = residual(view, before.frame_poses[index], old, FOLLOW_DISTANCES[-1])
        hold, _, centre, _, weight, squares = normal_equations(view, pose, new, FOLLOW_DISTANCES[-1])
        onto[n], now[n] = len(new), np.sqrt(squares / max(weight, 1e-12))
        play[n] = play_mm(hold, transform_points(pose, view.points) - centre) if len(view.points) else 0.0
    return Followed(rest, poses, was, now, play, onto)
