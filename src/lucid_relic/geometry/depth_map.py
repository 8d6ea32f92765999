"""From a depth image to surface: points, normals and a confidence per pixel.

A plane is linear in inverse depth: 1/z = m·(x, y, 1) with m = n/d. A least-squares fit of m over a
small window that does not reach across depth jumps gives the normal and a smoothed depth at once.
A pixel is left out when a neighbour is torn off it (the step is steeper than 80° to the ray), when
too few neighbours belong to it, or when the surface is seen at a grazing angle. Confidence is cos² of
the slant, less near a depth jump, with distance (noise grows with its square) and where the plane fits badly.
"""

from dataclasses import dataclass

import numpy as np

from lucid_relic.geometry import _kernels
from lucid_relic.types import Camera, PassState

MAX_SLANT_DEG = 75.0  # beyond which depth is worth nothing
MARGIN = 6  # pixels around what is kept, so that windows see all they need
CLEAR = 0.3  # confidence of the pixels that tell a frame's noise and depth
MOST_BENT = 3.0  # times the usual scatter: what bends more within a window is an edge
LEAST_NOISE_PIXELS = 0.02  # of the distance between pixels: nothing is measured better
HELD_BYTES = 64 * 2**20  # of kept parts, for who asks for them twice
EVERY = 2  # pixels each way of which one speaks for the noise and the depth of all


@dataclass(frozen=True)
class DepthMap:
    """Surface seen in one frame, in the camera's frame.

    depth (h, w) float32 mm as measured; fitted (h, w) float32 mm smoothed by the local plane, 0
    where not usable; normals (h, w, 3) float32 towards the camera; confidence (h, w) float32 0-1;
    noise_mm that of single pixels; scatter_mm the median of what they lie off the planes, by noise and by bending.
    """

    camera: Camera
    depth: np.ndarray
    fitted: np.ndarray
    normals: np.ndarray
    confidence: np.ndarray
    noise_mm: float
    scatter_mm: float

    def unshrunk(self) -> np.ndarray:
        """(h, w) float32 mm smoothed without the bias of `fitted`, 0 where not usable.

        A plane laid through a window of a convex surface lies inside it, the deeper the flatter one looks onto it, so
        that views from different sides disagree. Fitting the fit once more tells by how much ("twicing", Tukey 1977).
        """
        inverse = np.divide(1, self.fitted, out=np.zeros_like(self.fitted), where=self.fitted > 0)
        out = np.zeros_like(self.fitted)
        most = np.float32(MOST_BENT * max(self.scatter_mm, 0.05))
        _kernels.twice_fitted(self.fitted, self.depth, inverse, most, out)
        return out

    def points(self, mask: np.ndarray, depth: np.ndarray | None = None) -> np.ndarray:
        """(n, 3) float32 camera-frame points of the pixels in `mask` (h, w), in row order, as measured or at `depth`."""
        z = (self.depth if depth is None else depth)[mask]
        rays = self.camera.rays[mask]
        return np.stack([rays[:, 0] * z, rays[:, 1] * z, z], axis=1)


def depth_map(
    depth: np.ndarray,
    camera: Camera,
    edge_keeping: bool = False,
    wanted: np.ndarray | None = None,
    edge_noises: float = np.inf,
) -> DepthMap:
    """Compute the `DepthMap` of a depth image (h, w) float32 mm; window 5 × 5.

    Only the pixels in `wanted` (h, w) bool are described, by windows that see all around them.

    With edge_keeping a pixel whose own plane fits badly takes the plane of the neighbour that fits
    best and passes through it (after Kuwahara et al. 1976), so that creases stay sharp. edge_noises is to how many
    times the frame's noise it must do both: with 1.5 only creases between flat faces are kept, and nothing of what bends.
    """
    shape = depth.shape
    fitted = np.zeros(shape, np.float32)
    normals = np.zeros((*shape, 3), np.float32)
    confidence = np.zeros(shape, np.float32)
    residual = np.zeros(shape, np.float32)
    depth = np.ascontiguousarray(depth, dtype=np.float32)
    if wanted is None:
        wanted = np.ones(shape, np.bool_)
    min_cos = float(np.cos(np.radians(MAX_SLANT_DEG)))
    _kernels.depth_surface(
        depth, wanted, camera.rays, 1.0 / camera.fx, camera.fx / camera.fy, not any(camera.distortion),
        np.float32(typical_depth(depth)), min_cos, fitted, normals, confidence, residual,
    )  # fmt: skip
    noise, scatter, middle = _kernels.noise_scatter_and_depth(depth, residual, confidence, EVERY, CLEAR)
    if edge_keeping:
        sharp, sharp_normals = fitted.copy(), normals.copy()
        _kernels.keep_edges(
            depth,
            camera.rays,
            fitted,
            normals,
            confidence,
            residual,
            scatter,
            edge_noises * max(noise, LEAST_NOISE_PIXELS * middle / camera.fx),
            _kernels.RADIUS + 1,
            sharp,
            sharp_normals,
        )
        fitted, normals = sharp, sharp_normals
    _kernels.temper(fitted, residual, scatter, middle, confidence)
    return DepthMap(camera, depth, fitted, normals, confidence, noise, scatter)


def typical_depth(depth: np.ndarray) -> float:
    """About the mean depth of what was measured, from every fourth pixel each way."""
    some = depth[::4, ::4]
    return float(some.sum(dtype=np.float64) / max(np.count_nonzero(some), 1)) or 1.0


def frame_map(
    scan: PassState, index: int, cleaned: bool = True, edge_keeping: bool = False, edge_noises: float = np.inf
) -> DepthMap:
    """The `DepthMap` of one frame of a pass; `cleaned` zeroes the confidence of unkept pixels."""
    wanted = scan.keep_mask(index) if cleaned else None
    return depth_map(scan.source.depth(index), scan.camera, edge_keeping, wanted, edge_noises)


@dataclass(frozen=True)
class KeptDepth:
    """The smallest rectangle that holds the kept pixels of a frame, a little widened.

    depth (h, w) float32 mm and wanted (h, w) bool are those of its rows and columns; camera is the frame's with the
    principal point moved, so that it can be used in place of the whole.
    """

    depth: np.ndarray
    wanted: np.ndarray
    camera: Camera
    rows: slice
    columns: slice


def kept_depth(scan: PassState, index: int) -> KeptDepth:
    """What a frame measured where pixels are kept."""
    keep = scan.keep_mask(index)
    if keep is None:
        keep = scan.source.depth(index) > 0
    top, bottom, left, right = _kernels.extent(keep)
    v = _widened(top, bottom, scan.camera.height)
    u = _widened(left, right, scan.camera.width)
    camera = scan.camera.cropped(u.start, v.start, u.stop - u.start, v.stop - v.start)
    return KeptDepth(scan.source.depth(index, (v, u)), np.ascontiguousarray(keep[v, u]), camera, v, u)


def kept_part(
    scan: PassState, index: int, edge_keeping: bool = False, kept: KeptDepth | None = None
) -> tuple[DepthMap, slice, slice]:
    """The `DepthMap` of the `kept_depth` of a frame, where that is not at hand yet, and its rows and columns."""
    kept = kept or kept_depth(scan, index)
    surface = depth_map(kept.depth, kept.camera, edge_keeping=edge_keeping, wanted=kept.wanted)
    return surface, kept.rows, kept.columns


class KeptDepths:
    """`kept_depth` of frames for a computation that asks for each twice: as many as go into `HELD_BYTES` are held."""

    def __init__(self) -> None:
        self._held: dict[tuple[int, int], tuple[PassState, KeptDepth]] = {}
        self._bytes = 0

    def of(self, scan: PassState, index: int) -> KeptDepth:
        """What a frame measured where pixels are kept."""
        key = id(scan), index  # held with the pass itself, so that nothing else takes its number
        if key in self._held:
            return self._held[key][1]
        kept = kept_depth(scan, index)
        size = kept.depth.nbytes + kept.wanted.nbytes + kept.camera.rays.nbytes
        if self._bytes + size <= HELD_BYTES:
            self._held[key] = scan, kept
            self._bytes += size
        return kept


def _widened(first: int, last: int, size: int) -> slice:
    low, high = max(first - MARGIN, 0), min(last + MARGIN + 1, size)
    if high - low < 2 * MARGIN:
        low, high = max(high - 2 * MARGIN, 0), min(low + 2 * MARGIN, size)
    return slice(low, high)
