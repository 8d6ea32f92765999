"""A capture run through the live pipeline, as fast as it goes or at a rate, and what became of its frames."""

import time
from dataclasses import dataclass
from typing import Any

import numpy as np

from lucid_relic.alignment.marker_ties import held_by_markers
from lucid_relic.errors import StepNotPossible
from lucid_relic.progress import Progress
from lucid_relic.tracking.live_pass import LivePass
from lucid_relic.tracking.verdict import Followed
from lucid_relic.types import PassState


@dataclass(frozen=True)
class LiveRun:
    """The pass with its poses, what became of every frame (in order), slips, drift (mm) and the rate that was reached."""

    followed: tuple[Followed, ...]
    poses: dict[int, np.ndarray]
    slips: tuple[tuple[int, int], ...]
    drift_mm: float
    frames_per_s: float
    late: int

    def figures(self) -> dict[str, Any]:
        """As `lucid-relic track` tells it."""
        count = len(self.followed)
        return {
            "frames": count,
            "held": len(self.poses),
            "lost": self.lost(),
            "found": sum(f.found for f in self.followed),
            "slips": [list(slip) for slip in self.slips],
            "late": self.late,
            "frames_per_s": round(self.frames_per_s, 2),
            "drift_mm": round(self.drift_mm, 4),
            "poses": [self.poses[i].tolist() if i in self.poses else None for i in range(count)],
        }

    def lost(self) -> list[list[Any]]:
        """[first, last, reason] of every run of frames that have no pose."""
        runs: list[list[Any]] = []
        for f in self.followed:
            if f.frame in self.poses:
                continue
            if runs and runs[-1][1] == f.frame - 1:
                runs[-1][1] = f.frame
            else:
                runs.append([f.frame, f.frame, f.reason])
        return runs


def follow(scan: PassState, progress: Progress, rate: float | None = None) -> LiveRun:
    """Follow the frames of a pass: one after the other, or as they would come at so many a second.

    Then the newest frame counts; those that came meanwhile are placed after the last one. Raises `StepNotPossible` for
    a pass without frames.
    """
    if not scan.frame_count:
        raise StepNotPossible(f"“{scan.title}” has no frames that could be followed.")
    live = LivePass(
        scan.camera, lambda i: (scan.source.depth(i), scan.colour_in_depth_view(i)), by_markers=held_by_markers(scan)
    )
    said: dict[int, Followed] = {}
    passed_over: list[int] = []
    began, index = time.perf_counter(), 0
    while index < scan.frame_count:
        progress(0.9 * index / scan.frame_count, f"Frame {index + 1} of {scan.frame_count}")
        said[index] = live.push(index, scan.source.depth(index), scan.colour_in_depth_view(index))
        newest = index + 1 if rate is None else _newest(began, rate, index, scan.frame_count)
        passed_over += range(index + 1, newest)
        index = newest
    taken = time.perf_counter() - began
    for n, index in enumerate(passed_over):
        progress(0.9 + 0.1 * n / len(passed_over), f"Frame {index + 1}, which came meanwhile")
        said[index] = live.late(index, scan.source.depth(index), scan.colour_in_depth_view(index))
    live.finish()
    followed = tuple(said[i] for i in range(scan.frame_count))
    return LiveRun(followed, live.poses, tuple(live.slips), live.drift_mm, len(said) / taken if rate is None else
                   (len(said) - len(passed_over)) / taken, len(passed_over))  # fmt: skip


def _newest(began: float, rate: float, index: int, count: int) -> int:
    """The newest frame that has come at a rate by now; waits for the next one."""
    while True:
        come = min(int((time.perf_counter() - began) * rate), count if index + 1 >= count else count - 1)
        if come > index:
            return come
        time.sleep(0.2 / rate)
