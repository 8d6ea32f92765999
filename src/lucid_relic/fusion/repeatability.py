"""Repeatability: the object fused twice, from its odd and from its even frames, and how far the two surfaces lie apart."""

from dataclasses import dataclass, replace

import numpy as np

from lucid_relic.errors import StepNotPossible
from lucid_relic.fusion.polygonise import polygonise_open
from lucid_relic.fusion.tsdf import fuse_volume
from lucid_relic.geometry.off import signed_off
from lucid_relic.progress import Progress, part_of
from lucid_relic.types import ScanState

SHIFT = 0.5  # voxels that the second grid is moved by: what the grid does to the surface is not the same in both
REACH_VOXELS = 3.0  # from a place to either surface: beyond it that half has none there
LEAST_FRAMES = 4  # of the object: fewer halved tell nothing


@dataclass(frozen=True)
class Repeatability:
    """apart_mm (n,): how far the half from odd frames lies outside that from even ones; NaN where one of them has no surface."""

    apart_mm: np.ndarray

    @property
    def rms_mm(self) -> float:
        """How much two scans, each of all frames, would differ from what both would be in the mean of many.

        A half has twice the variance of the whole, the distance of two halves four times: it is half their distance.
        """
        known = self.apart_mm[~np.isnan(self.apart_mm)]
        return float(np.sqrt((known**2).mean())) / 2


def repeatability(state: ScanState, voxel_mm: float, places: np.ndarray, progress: Progress) -> Repeatability:
    """At places (n, 3) of the object's surface. Raises `StepNotPossible` when its frames cannot be halved."""
    if sum(int(p.frame_in.sum()) for p in state.used_passes()) < LEAST_FRAMES:
        raise StepNotPossible(f"Fewer than {LEAST_FRAMES} frames are in: two halves of them tell nothing.")
    apart = np.zeros(len(places))
    for number, sign in ((0, 1.0), (1, -1.0)):
        step = part_of(progress, number / 2, (number + 1) / 2)
        volume = fuse_volume(_half(state, number), voxel_mm, part_of(step, 0, 0.7), shift_voxels=SHIFT * number)
        half = polygonise_open(volume, part_of(step, 0.7, 0.9))
        off = signed_off(half, places) if len(half.faces) else np.full(len(places), np.nan)
        apart += sign * np.where(np.abs(off) > REACH_VOXELS * voxel_mm, np.nan, off)
    if np.isnan(apart).all():
        raise StepNotPossible(
            "Odd and even frames saw no place in common: capture with smaller turns from stop to stop."
        )
    return Repeatability(apart)


def _half(state: ScanState, number: int) -> ScanState:
    """The state with every second frame of each pass, the odd or the even of those that are in; points cannot be halved."""
    passes = []
    for scan in state.passes:
        inside = np.zeros(scan.frame_count, bool)
        inside[scan.frames_used()[number::2]] = True
        passes.append(replace(scan, frame_in=inside, off=scan.off or scan.cloud is not None))
    return replace(state, passes=tuple(passes))
