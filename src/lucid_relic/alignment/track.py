"""Tracking of a whole pass by shape: every frame in turn, then those that were lost once more; or by marker dots."""

from dataclasses import dataclass, replace

import numpy as np

from lucid_relic.alignment.marker_ties import dots_of
from lucid_relic.alignment.tracker import LostFrame, Tracker
from lucid_relic.errors import StepNotPossible
from lucid_relic.markers.constellation import Constellation, Held
from lucid_relic.progress import Progress, part_of
from lucid_relic.types import PassState


@dataclass(frozen=True)
class Tracked:
    """The pass with its poses, and the frames that could not be tracked (left out)."""

    scan: PassState
    lost: list[int]


def track(scan: PassState, progress: Progress) -> Tracked:
    """Find a pose for every frame; the first frame's camera is the pass's frame."""
    frames = [int(i) for i in scan.frames_used()]
    tracker = Tracker(scan)
    waiting: list[int] = []
    for k, index in enumerate(frames):
        progress(0.9 * k / len(frames), f"Tracking frame {k + 1} of {len(frames)}")
        if isinstance(tracker.push(index), LostFrame):
            waiting.append(index)
    lost = _placed_late(tracker, waiting, part_of(progress, 0.9, 1.0))
    if len(tracker.placed) < 2 and len(frames) > 1:
        raise StepNotPossible(
            f"“{scan.title}”: tracking was lost at the second frame. The steps between frames are too "
            "large to follow by shape; give turntable angles or poses."
        )
    inside = scan.frame_in.copy()
    inside[lost] = False
    return Tracked(replace(scan, frame_poses=_poses(scan, tracker), frame_in=inside, posed=True), lost)


def track_by_markers(scan: PassState, progress: Progress) -> Tracked:
    """Find a pose for every frame by the marker dots that it sees; those of the first such frame measure all others.

    Raises `StepNotPossible` when fewer than two frames are held by the same dots.
    """
    frames = [int(i) for i in scan.frames_used()]
    known, seen = Constellation(), {}
    poses: dict[int, np.ndarray] = {}
    for k, index in enumerate(frames):
        progress(0.8 * k / len(frames), f"Looking for markers in frame {k + 1} of {len(frames)}")
        seen[index] = dots_of(scan, index)
    waiting = frames
    while waiting:
        still = []
        for index in waiting:
            progress(0.8 + 0.2 * len(poses) / len(frames), f"Placing frame {len(poses) + 1} by its markers")
            dots = seen[index]
            held = known.held(dots) if poses else Held.new(len(dots)) if dots.firm else None
            if held is None:
                still.append(index)
                continue
            known.learn(index, dots, held)
            poses[index] = held.pose
        if len(still) == len(waiting):
            break
        waiting = still
    if len(poses) < 2 and len(frames) > 1:
        raise StepNotPossible(
            f"“{scan.title}”: no two of its {len(frames)} frames see four markers in common. Keep six in view, stick "
            "more, or let something else hold the pass."
        )
    settled = known.settle(poses)
    inside, placed = scan.frame_in.copy(), scan.frame_poses.copy()
    inside[waiting] = False
    for index, pose in settled.items():
        placed[index] = pose
    return Tracked(replace(scan, frame_poses=placed, frame_in=inside, posed=True), waiting)


def find_lost(scan: PassState, lost: list[int], progress: Progress) -> Tracked:
    """Look for lost frames again among the others, whose poses have been settled since; found ones are in again."""
    tracker = Tracker(scan)
    for index in map(int, scan.frames_used()):
        tracker.adopt(index, scan.frame_poses[index])
    sample = tracker.spread()
    for k, index in enumerate(sample):
        progress(0.5 * k / len(sample), "Looking for lost frames")
        tracker.learn(tracker.refined(index, scan.frame_poses[index]))
    still = _placed_late(tracker, lost, part_of(progress, 0.5, 1.0))
    inside = scan.frame_in.copy()
    inside[np.setdiff1d(lost, still)] = True
    return Tracked(replace(scan, frame_poses=_poses(scan, tracker), frame_in=inside), still)


def _poses(scan: PassState, tracker: Tracker) -> np.ndarray:
    poses = scan.frame_poses.copy()
    for index, pose in tracker.poses.items():
        poses[index] = pose
    return poses


def _placed_late(tracker: Tracker, waiting: list[int], progress: Progress) -> list[int]:
    """Look for the frames that were lost again, as long as that places any; returns those that stay lost."""
    searched: set[int] = set()
    total = max(len(waiting), 1)
    while waiting:
        # 1. Beside the frames that are placed: what was found since may be near.
        still = []
        for index in waiting:
            progress(1 - len(waiting) / total, f"Looking for frame {index + 1} again")
            if isinstance(tracker.push_late(index), LostFrame):
                still.append(index)
        if len(still) < len(waiting):
            waiting = still
            continue
        # 2. By their shape, one of each run of lost frames; the others of the run then follow it.
        tried = _one_of_each_run([i for i in waiting if i not in searched])
        if not tried:
            break
        for index in tried:
            progress(1 - len(waiting) / total, f"Looking for frame {index + 1} everywhere")
            found = tracker.searched(index)
            if found is not None:
                tracker.keep(found)
                waiting = [i for i in waiting if i != index]
        searched |= set(tried)
    return waiting


def _one_of_each_run(frames: list[int]) -> list[int]:
    """The middle one of every run of consecutive numbers."""
    runs = np.split(np.array(frames, int), np.flatnonzero(np.diff(frames) > 1) + 1)
    return [int(run[len(run) // 2]) for run in runs if len(run)]
