"""Point sets with what is known of each point, and passes that came as points or a mesh instead of frames."""

from dataclasses import dataclass, replace

import numpy as np

from lucid_relic.types.mesh import TriangleMesh

UNITS_MM = {"mm": 1.0, "cm": 10.0, "m": 1000.0, "in": 25.4}  # what one of a file's numbers may mean


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

    def select(self, mask: np.ndarray) -> "PointCloud":
        """Only the points where `mask` (n,) is true, or those of some indices, in their order."""
        part = lambda values: None if values is None else values[mask]  # noqa: E731
        return PointCloud(part(self.points), part(self.normals), part(self.colours))


@dataclass(frozen=True)
class MeasuredCloud:
    """What a pass came as, when it did not come as frames, in the pass's frame.

    cloud has normals (n, 3) that point out of the object; spacing_mm is the usual distance between neighbouring points;
    scanner (3,) mm is where the scanner stood, where that is known; surface is the mesh that it came as, or None.
    unit, one of `UNITS_MM`, is what the file's numbers are taken for, and unit_from says by whom: "format", "said" or
    "size" (guessed). normals_from says where the normals are from: "file", "faces", "scanner" (turned towards it) or
    "spread" (turned alike over the surface); turned_over that they were turned to the other side since. Passes
    with the same shared_frame, when there is one, lie to each other as they came.
    """

    cloud: PointCloud
    spacing_mm: float
    scanner: np.ndarray | None = None
    surface: TriangleMesh | None = None
    unit: str = "mm"
    unit_from: str = "said"
    normals_from: str = "file"
    turned_over: bool = False
    shared_frame: str = ""

    def __len__(self) -> int:
        return len(self.cloud)

    def in_unit(self, unit: str, unit_from: str) -> "MeasuredCloud":
        """The same numbers taken for another unit."""
        return replace(self.scaled(UNITS_MM[unit] / UNITS_MM[self.unit]), unit=unit, unit_from=unit_from)

    def scaled(self, factor: float) -> "MeasuredCloud":
        """All lengths times a factor."""
        if factor == 1.0:
            return self
        surface = self.surface and replace(self.surface, vertices=self.surface.vertices * np.float32(factor))
        return replace(
            self,
            cloud=replace(self.cloud, points=self.cloud.points * np.float32(factor)),
            spacing_mm=self.spacing_mm * factor,
            scanner=None if self.scanner is None else self.scanner * factor,
            surface=surface,
        )

    def with_other_side_out(self) -> "MeasuredCloud":
        """The same with normals and triangles turned to the other side."""
        surface = self.surface
        if surface is not None:
            texture = surface.texture and replace(surface.texture, uv=np.ascontiguousarray(surface.texture.uv[:, ::-1]))
            surface = replace(surface, faces=np.ascontiguousarray(surface.faces[:, ::-1]), texture=texture)
        cloud = replace(self.cloud, normals=-self.cloud.normals)
        return replace(self, cloud=cloud, surface=surface, turned_over=not self.turned_over)
