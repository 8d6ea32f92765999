"""The stand-in's reference piece: two balls on a bar, and a flat that leans beside them."""

import numpy as np

from lucid_relic.capture.model import ScanModel
from lucid_relic.geometry.rigid import from_rotvec
from lucid_relic.types import TriangleMesh

RINGS, SECTORS = 240, 480  # of a ball: its facets are within half a micrometre of it at 30 mm
WHITE = 0.45  # matt ceramic
FLAT_MM = (70.0, 50.0, 5.0)
BAR_MM = 8.0


def reference_model(diameters_mm: tuple[float, float], spacing_mm: float) -> ScanModel:
    """A piece with true balls at a true distance, standing on z = 0."""
    largest = max(diameters_mm)
    height = largest / 2 + 28.0
    parts = []
    for side, diameter in zip((-1, 1), diameters_mm, strict=True):
        parts.append(_ball(diameter / 2, np.array([side * spacing_mm / 2, 0, height])))
        parts.append(_box((BAR_MM / 2, BAR_MM / 2, (height - diameter / 2 + 1) / 2), np.array([side * spacing_mm / 2, 0, (height - diameter / 2 + 1) / 2])))  # fmt: skip
    parts.append(_box((spacing_mm / 2 + BAR_MM, BAR_MM, BAR_MM / 2), np.array([0, 0, BAR_MM / 2])))
    lean = from_rotvec(np.array([np.radians(62.0), 0, 0]), np.array([0, -26.0, 24.0]))
    parts.append(_box(tuple(np.array(FLAT_MM) / 2), np.zeros(3)).transformed(lean))
    start = np.cumsum([0] + [len(m.vertices) for m in parts])[:-1]
    vertices = np.concatenate([m.vertices for m in parts])
    vertices[:, 2] -= vertices[:, 2].min()
    faces = np.concatenate([m.faces + s for m, s in zip(parts, start, strict=True)])
    return ScanModel.plain(TriangleMesh(vertices.astype(np.float32), faces.astype(np.int32)), (WHITE,) * 3)


def _ball(radius: float, centre: np.ndarray) -> TriangleMesh:
    theta, phi = np.linspace(0, np.pi, RINGS + 1), np.arange(SECTORS) * 2 * np.pi / SECTORS
    t, f = np.meshgrid(theta, phi, indexing="ij")
    v = radius * np.stack([np.sin(t) * np.cos(f), np.sin(t) * np.sin(f), np.cos(t)], axis=-1).reshape(-1, 3) + centre
    grid = np.arange((RINGS + 1) * SECTORS).reshape(RINGS + 1, SECTORS)
    right = np.roll(grid, -1, axis=1)
    quads = np.stack([grid[:-1], grid[1:], right[1:], right[:-1]], axis=-1).reshape(-1, 4)
    return TriangleMesh(
        v.astype(np.float32), np.concatenate([quads[:, [0, 1, 2]], quads[:, [0, 2, 3]]]).astype(np.int32)
    )


def _box(half: tuple[float, ...], centre: np.ndarray) -> TriangleMesh:
    """A box whose corners are not shared between its sides, so that normals stay square."""
    corners: list[np.ndarray] = []
    faces: list[list[int]] = []
    for axis in range(3):
        for sign in (-1.0, 1.0):
            u, v = np.eye(3)[(axis + 1) % 3], np.eye(3)[(axis + 2) % 3]
            n = np.eye(3)[axis] * sign
            ring = [n - sign * u - v, n + sign * u - v, n + sign * u + v, n - sign * u + v]
            first = 4 * len(corners)
            corners.append(np.array(ring) * half + centre)
            faces += [[first, first + 1, first + 2], [first, first + 2, first + 3]]
    return TriangleMesh(np.concatenate(corners).astype(np.float32), np.array(faces, np.int32))
