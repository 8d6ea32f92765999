"""How far one surface is from another, both ways."""

from typing import Any

import numpy as np

from lucid_relic.geometry.bvh import TriangleTree
from lucid_relic.types import TriangleMesh

SAMPLES = 200_000  # of a surface: the mean is then known to 0.3 %


def sample_surface(mesh: TriangleMesh, count: int, seed: int = 0) -> np.ndarray:
    """(count, 3) float64 points drawn evenly by area with a seeded generator."""
    return sample_with_faces(mesh, count, seed)[0]


def sample_with_faces(mesh: TriangleMesh, count: int, seed: int = 0) -> tuple[np.ndarray, np.ndarray]:
    """As `sample_surface`, and the triangle (count,) that each point lies on."""
    rng = np.random.default_rng(seed)
    area = np.linalg.norm(mesh.face_normals(), axis=1)
    chosen = rng.choice(len(area), size=count, p=area / area.sum())
    u, v = rng.random(count), rng.random(count)
    flip = u + v > 1
    u[flip], v[flip] = 1 - u[flip], 1 - v[flip]
    p = mesh.corners[chosen].astype(np.float64)
    return p[:, 0] + u[:, None] * (p[:, 1] - p[:, 0]) + v[:, None] * (p[:, 2] - p[:, 0]), chosen


def summarise(distance: np.ndarray) -> dict[str, float]:
    """mean, rms, 95th percentile and greatest of distances in mm."""
    return {
        "mean_mm": float(distance.mean()),
        "rms_mm": float(np.sqrt((distance**2).mean())),
        "p95_mm": float(np.percentile(distance, 95)),
        "max_mm": float(distance.max()),
    }


def compare(mesh: TriangleMesh, other: TriangleMesh, samples: int = SAMPLES) -> dict[str, Any]:
    """Distances from `mesh` to `other` and back, from seeded samples of each surface."""
    to_other, _ = TriangleTree(other).closest(sample_surface(mesh, samples))
    from_other, _ = TriangleTree(mesh).closest(sample_surface(other, samples))
    both = np.concatenate([to_other, from_other])
    return {"to_other": summarise(to_other), "from_other": summarise(from_other), **summarise(both)}
