"""Passes placed on each other by the marker dots that their frames saw: the same dots are the same places.

Dots stay where they are while the object does; what speaks against a place, such as an object that was laid anew among the
dots, is found as for a fit by shape.
"""

from dataclasses import dataclass, replace

import numpy as np

from lucid_relic.alignment.find_fit import contradiction
from lucid_relic.alignment.fit_result import Side
from lucid_relic.alignment.keyframes import keyframes
from lucid_relic.alignment.marker_ties import dots_of
from lucid_relic.markers.constellation import Constellation
from lucid_relic.markers.in_space import LEAST, SpaceDots
from lucid_relic.progress import Progress, part_of
from lucid_relic.types import PassState, PointCloud

MAP_SIGMA_MM = (0.05, 0.05)  # across and along, of a place that many frames agree on
MOST_FRAMES = 60  # of a pass whose dots are looked for: more add the same again


@dataclass(frozen=True)
class MarkerFit:
    """How a pass was tried on another by their dots: dots in common, rms (mm) over them, and why not, if not."""

    fixed: int
    moving: int
    dots: int
    rms_mm: float
    refused: str


def place_by_markers(
    passes: tuple[PassState, ...], clouds: list[PointCloud], progress: Progress
) -> tuple[tuple[PassState, ...], list[MarkerFit]]:
    """Place every pass that is not placed on one that is, by their common dots; the first holds still when none is.

    clouds are the points of the passes in their own frames. Returns the passes and all that was tried.
    """
    out = list(passes)
    if not any(p.placed for p in out):
        out[0] = replace(out[0], placed=True)
    maps = [_map_of(p, part_of(progress, 0.8 * n / len(out), 0.8 * (n + 1) / len(out))) for n, p in enumerate(out)]
    tried: dict[tuple[int, int], MarkerFit] = {}
    found = True
    while found:
        found = False
        for i in [i for i, p in enumerate(out) if not p.placed]:
            for j in [j for j, p in enumerate(out) if p.placed and (j, i) not in tried]:
                progress(0.9, f"Comparing the markers of “{out[i].title}” and “{out[j].title}”")
                tried[j, i], motion = _tried(out, clouds, maps, j, i)
                if motion is not None:
                    out[i] = replace(out[i], T_object_pass=out[j].T_object_pass @ motion, placed=True)
                    found = True
                    break
    return tuple(out), list(tried.values())


def _map_of(scan: PassState, progress: Progress) -> Constellation:
    """The dots that the frames of a pass saw, in the pass's frame."""
    known = Constellation()
    if scan.cloud is not None or not scan.posed:
        return known
    frames = keyframes(scan)
    chosen = frames[np.unique(np.linspace(0, len(frames) - 1, min(len(frames), MOST_FRAMES)).astype(int))]
    for n, index in enumerate(map(int, chosen)):
        progress(n / len(chosen), f"Looking for markers in “{scan.title}”")
        known.learn_at(index, dots_of(scan, index), scan.frame_poses[index])
    return known.seen_often()


def _tried(
    passes: list[PassState], clouds: list[PointCloud], maps: list[Constellation], j: int, i: int
) -> tuple[MarkerFit, np.ndarray | None]:
    fixed, moving = maps[j], maps[i]
    for n in (i, j):
        if len(maps[n]) < LEAST:
            return MarkerFit(j, i, 0, 0.0, f"the frames of “{passes[n].title}” show no markers"), None
    count = len(moving)
    held = fixed.held(SpaceDots(moving.points, np.tile(MAP_SIGMA_MM, (count, 1)), moving.number, np.zeros((count, 2))))
    if held is None:
        return MarkerFit(
            j, i, 0, 0.0, "fewer than four markers of the two lie alike, or they do so in several ways"
        ), None
    against = contradiction(Side(clouds[j], passes[j]), Side(clouds[i], passes[i]), held.pose)
    if against:
        return MarkerFit(
            j, i, held.count, held.rms_mm, f"their markers agree, but the object was laid anew among them: {against}"
        ), None
    return MarkerFit(j, i, held.count, held.rms_mm, ""), held.pose
