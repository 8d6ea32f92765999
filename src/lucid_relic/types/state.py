"""The immutable state of an object: its passes, what was fused from them, and how it was judged."""

from dataclasses import dataclass, field, replace
from typing import Any, Protocol, runtime_checkable

import numpy as np

from lucid_relic.types.camera import Camera
from lucid_relic.types.cloud import MeasuredCloud, PointCloud
from lucid_relic.types.mesh import TriangleMesh
from lucid_relic.types.take import Take
from lucid_relic.types.volume import Volume

Part = tuple[slice, slice]  # rows and columns of an image


class FrameSource(Protocol):
    """Where the images of a pass come from; reads one frame at a time, never all."""

    key: str

    def depth(self, index: int, part: Part | None = None) -> np.ndarray:
        """(h, w) float32 mm along the camera's axis, 0 = nothing measured, of the whole image or a part."""

    def colour(self, index: int, part: Part | None = None) -> np.ndarray | None:
        """(h, w, 3) uint8 sRGB of the whole photograph or a part, or None when the frame has no photograph."""


@runtime_checkable
class MarkedSource(Protocol):
    """A source that may know where the marker dots of a frame are in its photograph."""

    def marks(self, index: int) -> np.ndarray | None:
        """(n, 3) u, v and number (-1 without one) of the dots that a frame saw, or None when that is not known."""


@dataclass(frozen=True)
class Turntable:
    """A turntable's axis in the camera's frame: a point (3,) mm and a unit direction (3,).

    degrees (n,) says how far the plate was turned at each frame, counter-clockwise seen from the
    tip of the direction.
    """

    axis_point: np.ndarray
    axis_direction: np.ndarray
    degrees: np.ndarray


@dataclass
class ScaledSource:
    """Another source whose depths are all multiplied by a factor: the instrument measured too short or too long."""

    source: FrameSource
    factor: float
    key: str = field(init=False)

    def __post_init__(self) -> None:
        self.key = self.source.key

    def depth(self, index: int, part: Part | None = None) -> np.ndarray:
        """As of the source, scaled."""
        return self.source.depth(index, part) * np.float32(self.factor)

    def colour(self, index: int, part: Part | None = None) -> np.ndarray | None:
        """As of the source."""
        return self.source.colour(index, part)

    def marks(self, index: int) -> np.ndarray | None:
        """As of the source, where it knows any."""
        return self.source.marks(index) if isinstance(self.source, MarkedSource) else None


NO_CAMERA = Camera.centred(8, 8, 8.0)  # of a pass without frames


@dataclass(frozen=True)
class PassState:
    """One pass: its frames, where they stand, which pixels are kept, and how it is placed.

    frame_poses (n, 4, 4) float64 camera → pass; frame_in (n,) bool; fit_mm (n,) float32 residual
    of each frame (NaN unknown); keep (n, ceil(h·w/8)) uint8 packed bits, or None when every pixel
    is kept; scaffold likewise, or None: of the kept pixels those that are aligned by and left out of the surface; plate (4,) plane n·p = d in the pass's frame; noise_mm the estimated depth noise; knocked the frames that
    did not stand where the table put them, since the object had moved on it; loose those that nothing holds in some direction; off a pass that nothing is to be worked out of;
    scale what all its lengths were multiplied by since it was taken.

    A pass that came as points or a mesh has a `cloud` and no frames: its camera is `NO_CAMERA`, and keep
    and scaffold (1, ceil(n/8)) hold a bit for each of its points.
    """

    title: str
    source: FrameSource
    camera: Camera
    frame_poses: np.ndarray
    frame_in: np.ndarray
    fit_mm: np.ndarray
    posed: bool
    tracking: str = "turntable"
    turntable: Turntable | None = None
    colour_camera: Camera | None = None
    T_depth_colour: np.ndarray | None = None
    keep: np.ndarray | None = None
    scaffold: np.ndarray | None = None
    plate: np.ndarray | None = None
    noise_mm: float = 0.0
    knocked: tuple[int, ...] = ()
    loose: tuple[int, ...] = ()
    T_object_pass: np.ndarray = field(default_factory=lambda: np.eye(4))
    placed: bool = False
    off: bool = False
    cloud: MeasuredCloud | None = None
    scale: float = 1.0

    @property
    def frame_count(self) -> int:
        return len(self.frame_poses)

    def frames_used(self) -> np.ndarray:
        """Indices of the frames that are in."""
        return np.flatnonzero(self.frame_in)

    def keep_mask(self, index: int) -> np.ndarray | None:
        """(h, w) bool of kept pixels of one frame, or None when all are kept."""
        if self.keep is None:
            return None
        size = self.camera.width * self.camera.height
        bits = np.unpackbits(self.keep[index], count=size).view(np.bool_)
        return bits.reshape(self.camera.height, self.camera.width)

    def kept_points(self) -> np.ndarray | None:
        """(n,) bool of the kept points of a pass of points, or None when all are kept."""
        if self.keep is None or self.cloud is None:
            return None
        return np.unpackbits(self.keep[0], count=len(self.cloud)).view(np.bool_)

    def without_scaffold(self) -> "PassState":
        """The pass with nothing kept that was set aside."""
        if self.scaffold is None:
            return self
        keep = ~self.scaffold if self.keep is None else self.keep & ~self.scaffold
        return replace(self, keep=keep, scaffold=None)

    def scaled(self, factor: float) -> "PassState":
        """The pass with all that it measured multiplied by a factor; where it lies on the object goes with it."""
        if factor == 1.0:
            return self
        table = self.turntable and replace(self.turntable, axis_point=self.turntable.axis_point * factor)
        bare = self.source.source if isinstance(self.source, ScaledSource) else self.source
        return replace(
            self,
            source=ScaledSource(bare, self.scale * factor),
            frame_poses=_farther(self.frame_poses, factor),
            fit_mm=self.fit_mm * np.float32(factor),
            turntable=table,
            T_depth_colour=None if self.T_depth_colour is None else _farther(self.T_depth_colour, factor),
            plate=None if self.plate is None else np.append(self.plate[:3], self.plate[3] * factor),
            noise_mm=self.noise_mm * factor,
            T_object_pass=_farther(self.T_object_pass, factor),
            cloud=self.cloud and self.cloud.scaled(factor),
            scale=self.scale * factor,
        )

    def colour_in_depth_view(self, index: int, part: Part | None = None) -> np.ndarray | None:
        """A photograph or a part of it, as `FrameSource.colour`, as the depth camera sees it.

        That of a colour camera apart is asked where each depth leads to; pixels that measured nothing, or that it does
        not see, are black.
        """
        if self.colour_camera is None:
            return self.source.colour(index, part)
        image = self.source.colour(index)
        if image is None:
            return None
        rows, columns = part or (slice(None), slice(None))
        depth = self.source.depth(index)[rows, columns]
        seen = depth > 0
        lines = self.camera.sight_lines[rows, columns][seen].astype(np.float64)
        T = np.eye(4) if self.T_depth_colour is None else self.T_depth_colour
        # The motion is rigid: its inverse turns what it shifted back.
        places = (lines * depth[seen][:, None] - T[:3, 3]) @ T[:3, :3]
        out = np.zeros((*depth.shape, 3), np.uint8)
        out[seen] = _asked(image, self.colour_camera, places)
        return out

    def T_object_camera(self, index: int) -> np.ndarray:
        """(4, 4) camera of one frame → object."""
        return self.T_object_pass @ self.frame_poses[index]


def _asked(image: np.ndarray, camera: Camera, places: np.ndarray) -> np.ndarray:
    """(n, 3) uint8: what a photograph shows of places (n, 3) in its camera's frame; black beyond its border or behind it."""
    ahead = places[:, 2] > 0
    u, v = camera.project(np.where(ahead[:, None], places, [0.0, 0.0, 1.0])).T
    height, width = image.shape[:2]
    inside = ahead & (u >= 0) & (v >= 0) & (u < width - 1) & (v < height - 1)
    u, v = u[inside], v[inside]
    left, top = u.astype(np.int64), v.astype(np.int64)
    a, b = (u - left)[:, None].astype(np.float32), (v - top)[:, None].astype(np.float32)
    above = image[top, left] * (1 - a) + image[top, left + 1] * a
    below = image[top + 1, left] * (1 - a) + image[top + 1, left + 1] * a
    out = np.zeros((len(places), 3), np.uint8)
    out[inside] = np.round(above * (1 - b) + below * b)
    return out


def _farther(motions: np.ndarray, factor: float) -> np.ndarray:
    """Motions (…, 4, 4) with their shifts multiplied."""
    out = motions.copy()
    out[..., :3, 3] *= factor
    return out


@dataclass(frozen=True)
class ScanState:
    """All that is known of an object at one step; takes are the fusions that stand beside each other. Operations return a new one."""

    passes: tuple[PassState, ...] = ()
    volume: Volume | None = None
    mesh: TriangleMesh | None = None
    points: PointCloud | None = None
    upright: bool = False
    notes: dict[str, Any] = field(default_factory=dict)
    takes: tuple[Take, ...] = ()

    def with_pass(self, index: int, changed: PassState) -> "ScanState":
        """The state with one pass exchanged."""
        passes = list(self.passes)
        passes[index] = changed
        return replace(self, passes=tuple(passes))

    def for_surface(self) -> "ScanState":
        """The state with what belongs to the surface only: without what was set aside to align by."""
        if all(p.scaffold is None for p in self.passes):
            return self
        return replace(self, passes=tuple(p.without_scaffold() for p in self.passes))

    def used_passes(self) -> tuple[PassState, ...]:
        """Passes that are placed on the object."""
        return tuple(p for p in self.passes if p.placed and not p.off)

    def without_off(self) -> "ScanState":
        """The state with the passes that are not switched off: what operations work on."""
        if not any(p.off for p in self.passes):
            return self
        return replace(self, passes=tuple(p for p in self.passes if not p.off))

    def with_off(self, after: "ScanState") -> "ScanState":
        """A state that an operation made of this one `without_off`, with what was switched off back in its places."""
        if not any(p.off for p in self.passes):
            return after
        worked = iter(after.passes)
        passes = [p if p.off else next(worked) for p in self.passes]
        return replace(after, passes=(*passes, *worked))
