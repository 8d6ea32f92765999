"""A pass as it is shown: thinned points, each with the frame and the pixel it comes from, or the point that came in."""

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from lucid_relic.geometry.depth_map import frame_map
from lucid_relic.geometry.normals import cloud_spacing
from lucid_relic.geometry.pass_points import came_points, points_of
from lucid_relic.geometry.points import thin_with_origin
from lucid_relic.geometry.rigid import transform_points
from lucid_relic.geometry.rims import pixels_off_rim, spacings_off_rim
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
NO_RIMS = np.zeros(256, np.uint32)
FACTS = ("frame", "pixel", "stands_for", "rim", "aside")  # of every point, beside where it is and how it looks


@dataclass(frozen=True)
class PassView:
    """Points in the object's frame, in the seeded random order they are shown in.

    Any leading part of them is spread over the whole: that is the level of detail. frame (n,) uint16 and pixel (n,)
    uint32 (row · width + column, or the number of a point that came in) name a measurement that lies in the point's cell; stands_for (n,) uint16 says how
    many did; rim (n,) uint8 how many pixels the one of these that lies farthest off a place where measuring ended does so; aside (n,)
    uint8 is 1 for what was set aside. rims (256,) counts the measurements of the pass by how far off they lie.
    """

    cloud: PointCloud
    frame: np.ndarray
    pixel: np.ndarray
    stands_for: np.ndarray
    rim: np.ndarray
    aside: np.ndarray
    rims: np.ndarray

    def __len__(self) -> int:
        return len(self.cloud)

    @cached_property
    def digest(self) -> str:
        """A short name of these points in this order: flags made for them fit no others."""
        return digest_of(self.cloud.points)

    @cached_property
    def spacing_mm(self) -> float:
        """Usual distance between neighbouring points."""
        return cloud_spacing(self.cloud.points)

    def packed(self) -> bytes:
        """As the viewer reads it."""
        extra = {name: getattr(self, name) for name in (*FACTS, "rims")}
        extra["spacing"] = np.array([self.spacing_mm], np.float32)
        return pack_points(self.cloud, extra, self.digest)

    @classmethod
    def unpacked(cls, data: bytes) -> "PassView":
        """From what `packed` gave; positions are as exact as sixteen bits an axis are."""
        cloud, extra, digest = unpack_points(data)
        view = cls(cloud, **{name: extra[name] for name in (*FACTS, "rims")})
        view.__dict__.update(digest=digest, spacing_mm=float(extra["spacing"][0]))
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
    """The points of one frame, uncleaned: for a pass that is being captured; none of a frame that was lost."""
    if not scan.frame_in[index]:
        return _shown(_of_nothing(), scan)
    voxel = FRAME_SPACINGS * pixel_spacing(scan)
    view = _thinned_frame(scan, index, False, voxel)
    while len(view) > FRAME_POINTS:
        voxel *= COARSER
        view = _thinned(view, voxel)
    return _shown(view, scan)


def _thinned_frame(scan: PassState, index: int, cleaned: bool, voxel: float) -> PassView:
    surface = frame_map(scan, index, cleaned)
    cloud, pixel, confidence = points_of(scan, index, surface, coloured=True)
    thinned, first, group = thin_with_origin(cloud, voxel, confidence)
    count = np.bincount(group, minlength=len(thinned))
    rim = pixels_off_rim(surface).ravel()[pixel]
    pixel = pixel[first]
    aside = _set_aside(scan, index)[pixel]
    return PassView(
        thinned, np.full(len(thinned), index), pixel, count, _largest(rim, group, len(thinned)), aside, _counted(rim)
    )


def _largest(values: np.ndarray, group: np.ndarray, count: int) -> np.ndarray:
    """(count,) the largest of the values (n,) of each group (n,)."""
    out = np.zeros(count, values.dtype)
    np.maximum.at(out, group, values)
    return out


def _counted(rim: np.ndarray) -> np.ndarray:
    return np.bincount(rim, minlength=len(NO_RIMS)).astype(np.uint32)


def _set_aside(scan: PassState, index: int) -> np.ndarray:
    """(h·w,) uint8 of the pixels of a frame, or the points of a pass of points, that were set aside."""
    size = len(scan.cloud) if scan.cloud is not None else scan.camera.width * scan.camera.height
    return np.zeros(size, np.uint8) if scan.scaffold is None else np.unpackbits(scan.scaffold[index], count=size)


def _came(scan: PassState) -> PassView:
    """The kept points of a pass of points, each by its number, as of frame 0."""
    kept = scan.kept_points()
    number = np.arange(len(scan.cloud)) if kept is None else np.flatnonzero(kept)
    cloud = came_points(scan, cleaned=True, coloured=True)
    rim = remembered(scan.cloud, "rim", lambda: spacings_off_rim(scan.cloud.cloud, scan.cloud.spacing_mm))[number]
    ones = np.ones(len(cloud), np.int64)
    return PassView(cloud, 0 * ones, number, ones, rim, _set_aside(scan, 0)[number], _counted(rim))


def _thinned(view: PassView, voxel: float) -> PassView:
    thinned, first, group = thin_with_origin(view.cloud, voxel)
    count = np.bincount(group, view.stands_for, minlength=len(thinned))
    rim = _largest(view.rim, group, len(thinned))
    return PassView(thinned, view.frame[first], view.pixel[first], count, rim, view.aside[first], view.rims)


def _of_nothing() -> PassView:
    none, flat = np.zeros(0, np.int64), np.zeros((0, 3), np.float32)
    return PassView(PointCloud(flat, flat, flat.astype(np.uint8)), **dict.fromkeys(FACTS, none), rims=NO_RIMS)


def _joined(parts: list[PassView]) -> PassView:
    if not parts:
        return _of_nothing()
    stack = lambda name: np.concatenate([getattr(p.cloud, name) for p in parts])  # noqa: E731
    cloud = PointCloud(stack("points"), stack("normals"), stack("colours"))
    facts = {n: np.concatenate([getattr(p, n) for p in parts]) for n in FACTS}
    return PassView(cloud, **facts, rims=np.sum([p.rims for p in parts], axis=0).astype(np.uint32))


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
        view.rim[order].astype(np.uint8),
        view.aside[order].astype(np.uint8),
        view.rims,
    )
