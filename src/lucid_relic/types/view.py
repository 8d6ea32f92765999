"""A view of the object as somebody saw it: where they stood and how wide they looked."""

from dataclasses import dataclass

import numpy as np

from lucid_relic.errors import InputError
from lucid_relic.types.camera import Camera

Matrix4 = tuple[tuple[float, float, float, float], ...]


@dataclass(frozen=True)
class View:
    """T_view_object (4 rows of 4) object → view, vertical field of view in degrees, size in pixels.

    A view looks along its +Z with x to the right and y down; pixel centres lie at integer coordinates, as a
    camera's do.
    """

    T_view_object: Matrix4
    fov_deg: float
    width: int
    height: int

    def __post_init__(self) -> None:
        if not 1 <= self.fov_deg <= 170:
            raise InputError(f"view: fov_deg must lie between 1 and 170, not {self.fov_deg:g}")

    @property
    def pose(self) -> np.ndarray:
        """(4, 4) float64 object → view."""
        return np.array(self.T_view_object, dtype=np.float64)

    @property
    def camera(self) -> Camera:
        """The pinhole camera of the view."""
        focal = self.height / (2 * np.tan(np.radians(self.fov_deg) / 2))
        return Camera.centred(self.width, self.height, float(focal))

    def project(self, points: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Pixel coordinates (n, 2) and depth (n,) mm of points (n, 3) of the object; depth ≤ 0 lies behind."""
        pose = self.pose
        seen = points.astype(np.float64) @ pose[:3, :3].T + pose[:3, 3]
        depth = seen[:, 2]
        ahead = np.where(depth > 1e-9, depth, 1.0)
        camera = self.camera
        pixels = seen[:, :2] / ahead[:, None] * camera.fx + [camera.cx, camera.cy]
        return np.where((depth > 1e-9)[:, None], pixels, np.nan), depth

    def ray(self, pixel: tuple[float, float]) -> np.ndarray:
        """(3,) unit direction, in the object's frame, of a pixel's line of sight."""
        camera = self.camera
        along = np.array([(pixel[0] - camera.cx) / camera.fx, (pixel[1] - camera.cy) / camera.fy, 1.0])
        along = self.pose[:3, :3].T @ along
        return along / np.linalg.norm(along)

    @property
    def eye(self) -> np.ndarray:
        """(3,) mm where the eye stands, in the object's frame."""
        pose = self.pose
        return -pose[:3, :3].T @ pose[:3, 3]


@dataclass(frozen=True)
class ViewLine:
    """A line drawn across a view, from one pixel to another."""

    start: tuple[float, float]
    end: tuple[float, float]
    view: View

    def plane(self) -> np.ndarray:
        """(4,) the plane n·p = d that stands on the line and runs into the picture.

        The side in front of it lies to the left of the line as it was drawn: above a line drawn from left to right.
        Raises `InputError` for a line without length.
        """
        first, second = self.view.ray(self.start), self.view.ray(self.end)
        normal = np.cross(second, first)
        length = np.linalg.norm(normal)
        if length < 1e-9:
            raise InputError("line: its two ends lie at the same place")
        normal = normal / length
        return np.append(normal, normal @ self.view.eye)
