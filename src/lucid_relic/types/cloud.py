"""Point sets with what is known of each point."""

from dataclasses import dataclass

import numpy as np


@dataclass(frozen=True)
class PointCloud:
    """points (n, 3) float32 mm, normals (n, 3) float32 unit or None, colours (n, 3) uint8 or None."""

    points: np.ndarray
    normals: np.ndarray | None = None
    colours: np.ndarray | None = None

    def __len__(self) -> int:
        return len(self.points)

    def every(self, step: int) -> "PointCloud":
        """Every step-th point."""
        if step == 1:
            return self
        part = lambda values: None if values is None else np.ascontiguousarray(values[::step])  # noqa: E731
        return PointCloud(part(self.points), part(self.normals), part(self.colours))

    def transformed(self, transform: np.ndarray) -> "PointCloud":
        """The points moved by a rigid 4×4 motion (mm)."""
        points = (self.points @ transform[:3, :3].T + transform[:3, 3]).astype(np.float32)
        normals = None if self.normals is None else (self.normals @ transform[:3, :3].T).astype(np.float32)
        return PointCloud(points, normals, self.colours)
