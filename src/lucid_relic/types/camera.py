"""The pinhole camera with Brown-Conrady distortion; pixel centres lie at integer coordinates."""

from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np

from lucid_relic.errors import InputError

UNDISTORT_ITERATIONS = 12  # of the fixed point: below a thousandth of a pixel for lenses with less than 30 % distortion


@dataclass(frozen=True)
class Camera:
    """Intrinsics of one camera.

    width, height in pixels; fx, fy, cx, cy in pixels; distortion (k1, k2, p1, p2, k3) as in
    Brown (1966) and Conrady (1919), applied to normalised coordinates. The camera looks along
    +Z with x to the right and y down.
    """

    width: int
    height: int
    fx: float
    fy: float
    cx: float
    cy: float
    distortion: tuple[float, ...] = field(default=(0.0, 0.0, 0.0, 0.0, 0.0))

    def __post_init__(self) -> None:
        if self.width < 8 or self.height < 8 or self.width > 16384 or self.height > 16384:
            raise InputError(f"camera: {self.width}×{self.height} pixels is outside 8 to 16384 a side")
        if not all(np.isfinite([self.fx, self.fy, self.cx, self.cy, *self.distortion])):
            raise InputError("camera: fx, fy, cx, cy and distortion must be finite numbers")
        if self.fx <= 0 or self.fy <= 0:
            raise InputError("camera: fx and fy must be greater than 0")
        if len(self.distortion) != 5:
            raise InputError("camera: distortion must hold 5 numbers (k1 k2 p1 p2 k3)")

    @classmethod
    def centred(cls, width: int, height: int, focal_px: float) -> "Camera":
        """A distortion-free camera whose principal point is the middle of the image."""
        return cls(width, height, focal_px, focal_px, (width - 1) / 2, (height - 1) / 2)

    @cached_property
    def as_vector(self) -> np.ndarray:
        """(11,) float64 for kernels: fx fy cx cy k1 k2 p1 p2 k3 width height."""
        return np.array(
            [self.fx, self.fy, self.cx, self.cy, *self.distortion, self.width, self.height],
            dtype=np.float64,
        )

    @cached_property
    def rays(self) -> np.ndarray:
        """(height, width, 2) float32: normalised x/z, y/z of every pixel, distortion undone."""
        u, v = np.meshgrid(np.arange(self.width), np.arange(self.height))
        return np.ascontiguousarray(self.rays_at(np.stack([u, v], axis=-1)), dtype=np.float32)

    def rays_at(self, pixels: np.ndarray) -> np.ndarray:
        """(…, 2) float64: normalised x/z, y/z of places (…, 2) of the image, distortion undone."""
        xd = (pixels[..., 0] - self.cx) / self.fx
        yd = (pixels[..., 1] - self.cy) / self.fy
        x, y = xd.copy(), yd.copy()
        if any(self.distortion):
            for _ in range(UNDISTORT_ITERATIONS):
                dx, dy = self._distortion_offset(x, y)
                x, y = xd - dx, yd - dy
        return np.stack([x, y], axis=-1)

    @cached_property
    def sight_lines(self) -> np.ndarray:
        """(height, width, 3) float32: the line of sight of every pixel, with z = 1."""
        return np.concatenate([self.rays, np.ones((*self.rays.shape[:2], 1), np.float32)], axis=2)

    @cached_property
    def half_rays(self) -> np.ndarray:
        """(ceil(height / 2), ceil(width / 2), 2) float32: the rays of every second pixel each way."""
        return np.ascontiguousarray(self.rays[::2, ::2])

    def cropped(self, left: int, top: int, width: int, height: int) -> "Camera":
        """The camera of a rectangle of this one's image; its rays are taken over."""
        part = replace(self, width=width, height=height, cx=self.cx - left, cy=self.cy - top)
        part.__dict__["rays"] = np.ascontiguousarray(self.rays[top : top + height, left : left + width])
        return part

    def _distortion_offset(self, x: np.ndarray, y: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        k1, k2, p1, p2, k3 = self.distortion
        r2 = x * x + y * y
        radial = r2 * (k1 + r2 * (k2 + r2 * k3))
        dx = x * radial + 2 * p1 * x * y + p2 * (r2 + 2 * x * x)
        dy = y * radial + p1 * (r2 + 2 * y * y) + 2 * p2 * x * y
        return dx, dy

    def project(self, points: np.ndarray) -> np.ndarray:
        """Pixel coordinates (n, 2) float64 of points (n, 3) mm in the camera's frame."""
        z = points[:, 2]
        x, y = points[:, 0] / z, points[:, 1] / z
        dx, dy = self._distortion_offset(x, y)
        return np.stack([(x + dx) * self.fx + self.cx, (y + dy) * self.fy + self.cy], axis=1)
