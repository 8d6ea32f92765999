"""What the marker dots that two frames both see say of their poses."""

from collections.abc import Sequence

import numpy as np

from lucid_relic.geometry.rigid import shifts_of, transform_points
from lucid_relic.markers.constellation import Constellation
from lucid_relic.markers.in_space import SpaceDots, dots_in_space, told_in_space
from lucid_relic.types import MarkedSource, PassState

MARKERS = "markers"  # what such a pass is tracked by
SCATTER_MM = 0.25  # between the same dot of two frames, from which on it counts for half


def held_by_markers(scan: PassState) -> bool:
    """Whether a pass is tracked by marker dots."""
    return scan.tracking == MARKERS


def held_by_nothing_else(scan: PassState) -> bool:
    """Whether only what its frames see holds a pass: neither a table nor markers."""
    return scan.turntable is None and not held_by_markers(scan)


def dots_of(scan: PassState, index: int) -> SpaceDots:
    """The dots that a frame of a pass sees: where its source says, or where its photograph shows them."""
    marks = scan.source.marks(index) if isinstance(scan.source, MarkedSource) else None
    depth = scan.source.depth(index)
    if marks is not None:
        return told_in_space(marks, depth, scan.camera)
    image = scan.colour_in_depth_view(index)
    return SpaceDots.none() if image is None else dots_in_space(image, depth, scan.camera)


class MarkerTies:
    """The dots of the frames of some passes, told apart by where the frames are; of passes held by markers alone."""

    def __init__(self, passes: Sequence[PassState], frames: Sequence[np.ndarray]) -> None:
        self._seen: list[tuple[SpaceDots, np.ndarray, int] | None] = []
        for number, (scan, own) in enumerate(zip(passes, frames, strict=True)):
            known = Constellation()
            for index in map(int, own):
                if not held_by_markers(scan):
                    self._seen.append(None)
                    continue
                dots = dots_of(scan, index)
                which = known.learn_at(index, dots, scan.frame_poses[index])
                self._seen.append((dots, which, number))

    def between(self, i: int, j: int, poses: np.ndarray, centre: np.ndarray) -> tuple[np.ndarray, np.ndarray] | None:
        """Normal matrix (6, 6) and gradient (6,) for frame i against j, as the kernels of settle give them; None without dots."""
        a, b = self._seen[i], self._seen[j]
        if a is None or b is None or a[2] != b[2]:
            return None
        _, first, second = np.intersect1d(a[1], b[1], return_indices=True)
        good = a[1][first] >= 0
        first, second = first[good], second[good]
        if not len(first):
            return None
        here, there = transform_points(poses[i], a[0].points[first]), transform_points(poses[j], b[0].points[second])
        rest = here - there
        sure = (a[0].sigma[first] ** 2).sum(axis=1) + (b[0].sigma[second] ** 2).sum(axis=1)
        weight = 1 / sure / (1 + (rest**2).sum(axis=1) / SCATTER_MM**2) ** 2
        jacobian = shifts_of(here - centre)
        normal = np.einsum("nai,n,naj->ij", jacobian, weight, jacobian)
        return normal, np.einsum("nai,n,na->i", jacobian, weight, rest)
