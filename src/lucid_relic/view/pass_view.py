"""A pass as it is shown: thinned points, each with the frame and the pixel it comes from, or the point that came in."""

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from lucid_relic.geometry.pass_points import came_points, measured_points
from lucid_relic.geometry.points import thin_with_origin
from lucid_relic.geometry.rigid import transform_points
from lucid_relic.geometry.spacing import pixel_spacing
from lucid_relic.memo import remember, remembered
from lucid_relic.progress import Progress, silent
from lucid_relic.types import PassState, PointCloud
from lucid_relic.view.packing import digest_of, pack_points, unpack_points

PASS_POINTS = 400_000  # of one pass at the most: four passes still turn smoothly in a browser without a graphics card
FRAME_POINTS = 6000  # of one frame of a pass that is being captured
SPACINGS, FRAME_SPACINGS = 1.1, 2.5  # between points, in pixel spacings
COARSER = 1.3  # by which the spacing grows until the points are few enough
KEY = "pass view"


@dataclass(frozen=True)
class PassView:
    """Points in the object's frame, in the seeded random order they are shown in.

    Any leading part of them is spread over the whole: that is the level of detail. frame (n,) uint16 and pixel (n,)
    uint32 (row · width + column, or the number of a point that came in) name a measurement that lies in the point's cell; stands_for (n,) uint16 says how
    many did.
    """

    cloud: PointCloud
    frame: np.ndarray
    pixel: np.ndarray
    stands_for: np.ndarray

    def __len__(self) -> int:
        return len(self.cloud)

    @cached_property
    def digest(self) -> str:
        """A short name of these points in this order: flags made for them fit no others."""
        return digest_of(self.cloud.points)

    def packed(self) -> bytes:
        """As the viewer reads it."""
        extra = {"frame": self.frame, "stands_for": self.stands_for, "pixel": self.pixel}
        return pack_points(self.cloud, extra, self.digest)

    @classmethod
    def unpacked(cls, data: bytes) -> "PassView":
        """From what `packed` gave; positions are as exact as sixteen bits an axis are."""
        cloud, extra, digest = unpack_points(data)
        view = cls(cloud, extra["frame"], extra["pixel"], extra["stands_for"])
        view.__dict__["digest"] = digest
        return view


def pass_view(scan: PassState, progress: Progress = silent) -> PassView:
    """The points of a pass as it is cleaned and placed now; worked out once for a state of a pass."""
    return remembered(scan, KEY, lambda: _pass_view(scan, progress))


def know_view(scan: PassState, view: PassView) -> None:
    """Take a view that was worked out before, as a file, instead of working it out again."""
    remember(scan, KEY, view)


def _pass_view(scan: PassState, progress: Progress) -> PassView:
    frames = scan.frames_used()
    voxel = SPACINGS * pixel_spacing(scan)
    parts = [] if scan.cloud is None else [_came(scan)]
    for done, index in enumerate(frames):
        progress(done / len(frames), f"Gathering the points of “{scan.title}”")
        parts.append(_thinned_frame(scan, int(index), True, voxel))
    while True:
        view = _thinned(_joined(parts), voxel)
        if len(view) <= PASS_POINTS:
            return _shown(view, scan)
        parts, voxel = [view], voxel * COARSER


def frame_view(scan: PassState, index: int) -> PassView:
    """The points of one frame, uncleaned: for a pass that is being captured."""
    voxel = FRAME_SPACINGS * pixel_spacing(scan)
    view = _thinned_frame(scan, index, False, voxel)
    while len(view) > FRAME_POINTS:
        voxel *= COARSER
        view = _thinned(view, voxel)
    return _shown(view, scan)


def _thinned_frame(scan: PassState, index: int, cleaned: bool, voxel: float) -> PassView:
    cloud, pixel, confidence = measured_points(scan, index, cleaned, coloured=True)
    thinned, first, group = thin_with_origin(cloud, voxel, confidence)
    count = np.bincount(group, minlength=len(thinned))
    return PassView(thinned, np.full(len(thinned), index), pixel[first], count)


def _came(scan: PassState) -> PassView:
    """The kept points of a pass of points, each by its number, as of frame 0."""
    kept = scan.kept_points()
    number = np.arange(len(scan.cloud)) if kept is None else np.flatnonzero(kept)
    cloud = came_points(scan, cleaned=True, coloured=True)
    return PassView(cloud, np.zeros(len(cloud), np.int64), number, np.ones(len(cloud), np.int64))


def _thinned(view: PassView, voxel: float) -> PassView:
    thinned, first, group = thin_with_origin(view.cloud, voxel)
    count = np.bincount(group, view.stands_for, minlength=len(thinned))
    return PassView(thinned, view.frame[first], view.pixel[first], count)


def _joined(parts: list[PassView]) -> PassView:
    if not parts:
        empty = np.empty((0, 3), np.float32)
        none = np.empty(0, np.int64)
        return PassView(PointCloud(empty, empty, empty.astype(np.uint8)), none, none, none)
    stack = lambda name: np.concatenate([getattr(p.cloud, name) for p in parts])  # noqa: E731
    cloud = PointCloud(stack("points"), stack("normals"), stack("colours"))
    return PassView(cloud, *(np.concatenate([getattr(p, n) for p in parts]) for n in ("frame", "pixel", "stands_for")))


def _shown(view: PassView, scan: PassState) -> PassView:
    """In the object's frame and in random order, with numbers as narrow as they are sent."""
    order = np.random.default_rng(1).permutation(len(view))
    turn = scan.T_object_pass[:3, :3].astype(np.float32)
    points = transform_points(scan.T_object_pass, view.cloud.points[order]).astype(np.float32)
    cloud = PointCloud(points, view.cloud.normals[order] @ turn.T, view.cloud.colours[order])
    return PassView(
        cloud,
        view.frame[order].astype(np.uint16),
        view.pixel[order].astype(np.uint32),
        np.minimum(view.stands_for[order], np.iinfo(np.uint16).max).astype(np.uint16),
    )
