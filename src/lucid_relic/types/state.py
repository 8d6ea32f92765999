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


NO_CAMERA = Camera.centred(8, 8, 8.0)  # of a pass without frames


@dataclass(frozen=True)
class PassState:
    """One pass: its frames, where they stand, which pixels are kept, and how it is placed.

    frame_poses (n, 4, 4) float64 camera → pass; frame_in (n,) bool; fit_mm (n,) float32 residual
    of each frame (NaN unknown); keep (n, ceil(h·w/8)) uint8 packed bits, or None when every pixel
    is kept; scaffold likewise, or None: of the kept pixels those that are aligned by and left out of the surface; plate (4,) plane n·p = d in the pass's frame; noise_mm the estimated depth noise; knocked the frames that
    did not stand where the table put them, since the object had moved on it; off a pass that nothing is to be worked out of.

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
    T_object_pass: np.ndarray = field(default_factory=lambda: np.eye(4))
    placed: bool = False
    off: bool = False
    cloud: MeasuredCloud | None = None

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

    def colour_in_depth_view(self, index: int, part: Part | None = None) -> np.ndarray | None:
        """A photograph or a part of it, as `FrameSource.colour`, when it shares the depth camera's view, else None."""
        return self.source.colour(index, part) if self.colour_camera is None else None

    def T_object_camera(self, index: int) -> np.ndarray:
        """(4, 4) camera of one frame → object."""
        return self.T_object_pass @ self.frame_poses[index]


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
