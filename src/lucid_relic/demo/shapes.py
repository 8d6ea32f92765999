"""Signed distance functions to model with, and turning them into meshes.

Every function takes points (n, 3) float32 mm and returns distances (n,), negative inside. Relief that
is added to a distance makes it approximate, which is harmless near the surface.
"""

from collections.abc import Callable

import numpy as np

from lucid_relic.fusion.polygonise import triangles_of_blocks
from lucid_relic.types import TriangleMesh

Field = Callable[[np.ndarray], np.ndarray]
SLACK = 1.5  # voxels beyond a shape that are looked at


def sphere(p: np.ndarray, centre: tuple[float, float, float], radius: float) -> np.ndarray:
    return np.linalg.norm(p - np.float32(centre), axis=1) - radius


def ellipsoid(p: np.ndarray, centre: tuple[float, float, float], radii: tuple[float, float, float]) -> np.ndarray:
    """Distance to an ellipsoid to first order (exact on the surface)."""
    q = (p - np.float32(centre)) / np.float32(radii)
    k0 = np.linalg.norm(q, axis=1)
    k1 = np.linalg.norm(q / np.float32(radii), axis=1)
    return k0 * (k0 - 1) / np.maximum(k1, 1e-6)


def capsule(
    p: np.ndarray, a: tuple[float, float, float], b: tuple[float, float, float], ra: float, rb: float
) -> np.ndarray:
    """A rod from a to b whose radius runs from ra to rb."""
    a_, ab = np.float32(a), np.float32(b) - np.float32(a)
    t = np.clip((p - a_) @ ab / (ab @ ab), 0, 1)
    return np.linalg.norm(p - a_ - t[:, None] * ab, axis=1) - (ra + t * (rb - ra))


def torus(p: np.ndarray, centre: tuple[float, float, float], axis: int, ring: float, tube: float) -> np.ndarray:
    """A ring about one of the coordinate axes (0, 1, 2)."""
    q = p - np.float32(centre)
    flat = [k for k in range(3) if k != axis]
    away = np.hypot(q[:, flat[0]], q[:, flat[1]]) - ring
    return np.hypot(away, q[:, axis]) - tube


def box(
    p: np.ndarray, centre: tuple[float, float, float], half: tuple[float, float, float], round_mm: float = 0.0
) -> np.ndarray:
    q = np.abs(p - np.float32(centre)) - (np.float32(half) - round_mm)
    outside = np.linalg.norm(np.maximum(q, 0), axis=1)
    return outside + np.minimum(q.max(axis=1), 0) - round_mm


def revolved(p: np.ndarray, profile: list[tuple[float, float]]) -> np.ndarray:
    """A closed outline (radius, height) turned about z; sides along the axis are no surface."""
    q = np.stack([np.hypot(p[:, 0], p[:, 1]), p[:, 2]], axis=1)
    v = np.float32(profile)
    distance = np.full(len(q), np.inf, np.float32)
    inside = np.zeros(len(q), bool)
    for a, b in zip(v, np.roll(v, -1, axis=0), strict=True):
        if a[0] == b[0] == 0:
            continue  # a side along the axis is no surface
        e, w = b - a, q - a
        t = np.clip(w @ e / (e @ e), 0, 1)
        distance = np.minimum(distance, np.linalg.norm(w - t[:, None] * e, axis=1))
        crosses = (a[1] > q[:, 1]) != (b[1] > q[:, 1])
        with np.errstate(divide="ignore", invalid="ignore"):
            at = a[0] + (q[:, 1] - a[1]) / (b[1] - a[1]) * (b[0] - a[0])
        inside ^= crosses & (q[:, 0] < at)
    return np.where(inside, -distance, distance)


def smooth_union(a: np.ndarray, b: np.ndarray, reach: float) -> np.ndarray:
    """Union with a fillet of about `reach` mm."""
    h = np.maximum(reach - np.abs(a - b), 0) / reach
    return np.minimum(a, b) - h * h * reach / 4


def smooth_cut(a: np.ndarray, b: np.ndarray, reach: float) -> np.ndarray:
    """a without b, with a rounded rim."""
    return -smooth_union(-a, b, reach)


def mesh_of(
    field: Field, low: tuple[float, float, float], high: tuple[float, float, float], voxel_mm: float
) -> TriangleMesh:
    """Polygonise a field inside a box, evaluating it only near the surface."""
    origin = np.float64(low)
    block_mm = 8 * voxel_mm
    count = np.ceil((np.float64(high) - origin) / block_mm).astype(int) + 1
    grid = np.stack(np.meshgrid(*[np.arange(n) for n in count], indexing="ij"), axis=-1).reshape(-1, 3)
    middle = (origin + (grid + 0.5) * block_mm).astype(np.float32)
    near = np.abs(field(middle)) < block_mm * 0.87 * SLACK
    blocks = grid[near]
    local = np.stack(np.meshgrid(*[np.arange(9)] * 3, indexing="ij"), axis=-1).reshape(-1, 3)
    parts = []
    for chunk in np.array_split(blocks, max(len(blocks) // 400, 1)):
        points = origin + (chunk[:, None, :] * 8 + local[None]) * voxel_mm
        parts.append(field(points.reshape(-1, 3).astype(np.float32)).reshape(-1, 9, 9, 9))
    padded = (np.concatenate(parts) / block_mm).astype(np.float32)
    mesh, _, _ = triangles_of_blocks(padded, np.ones(padded.shape, bool), blocks, origin, voxel_mm)
    return TriangleMesh(mesh.vertices, mesh.faces)
