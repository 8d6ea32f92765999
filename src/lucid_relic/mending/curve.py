"""How far a mesh departs from itself over the number of triangles it is reduced to: worked out once, read off at any count."""

from dataclasses import dataclass, replace

import numpy as np
from scipy.interpolate import PchipInterpolator

from lucid_relic.geometry.bvh import TriangleTree
from lucid_relic.mending.simplify import simplify
from lucid_relic.progress import Progress, part_of, silent
from lucid_relic.types import TriangleMesh

SHARES = (0.6, 0.35, 0.2, 0.1, 0.05, 0.025, 0.0125, 0.006, 0.003)  # of the triangles, at the points of the curve
FEWEST = 500  # triangles at the end of the curve
PROBES = 60_000  # places of the original that are asked


@dataclass(frozen=True)
class CurvePoint:
    """Triangles, and how far the reduced surface lies off at the most, for all but a twentieth, and in the mean (mm)."""

    triangles: int
    max_mm: float
    p95_mm: float
    mean_mm: float


def deviation_curve(mesh: TriangleMesh, progress: Progress = silent) -> list[CurvePoint]:
    """Points of the curve from all triangles down to a few hundred, each a real reduction that was measured."""
    original = TriangleTree(mesh)
    probes = _spread(mesh)
    curve = [CurvePoint(len(mesh.faces), 0.0, 0.0, 0.0)]
    counts = [int(share * len(mesh.faces)) for share in SHARES]
    counts = [count for count in counts if count >= FEWEST]
    bare = replace(mesh, colours=None, made_up=None, texture=None)
    for k, count in enumerate(counts):
        reduced = simplify(bare, count, progress=part_of(progress, k / len(counts), (k + 0.7) / len(counts))).mesh
        curve.append(_measured(reduced, original, probes))
        if len(reduced.faces) > 1.1 * count:
            break
    progress(1.0, "Measured")
    return curve


def read_off(curve: list[CurvePoint], triangles: int) -> CurvePoint:
    """The curve at a number of triangles: between its points nearly a power of the count, without waves of its own."""
    counts = np.log([float(point.triangles) for point in curve])[::-1]
    at = float(np.clip(np.log(max(triangles, 1)), counts[0], counts[-1]))
    figures = np.array([[p.max_mm, p.p95_mm, p.mean_mm] for p in curve])[::-1]
    # A curve of powers is straight in logarithms; nothing at all, with all triangles, has none.
    floor = max(float(figures[figures > 0].min(initial=1.0)) / 4, 1e-12)
    logs = np.log(np.maximum(figures, floor))
    most, most95, mean = (float(np.exp(PchipInterpolator(counts, logs[:, k])(at))) for k in range(3))
    return CurvePoint(triangles, most, most95, mean)


def measure_off(mesh: TriangleMesh, reduced: TriangleMesh) -> CurvePoint:
    """How far a reduced mesh lies off, measured as the points of a curve are."""
    return _measured(reduced, TriangleTree(mesh), _spread(mesh))


def _spread(mesh: TriangleMesh) -> np.ndarray:
    """Vertices of a mesh, evenly taken from its list."""
    used = np.unique(mesh.faces)
    return mesh.vertices[used[:: max(len(used) // PROBES, 1)]].astype(np.float64)


def _measured(reduced: TriangleMesh, original: TriangleTree, probes: np.ndarray) -> CurvePoint:
    to_reduced = TriangleTree(reduced).closest(probes)[0]
    to_original = original.closest(_spread(reduced))[0]
    off = np.concatenate([to_reduced, to_original])
    return CurvePoint(
        len(reduced.faces), float(off.max()), float(np.percentile(to_reduced, 95)), float(to_reduced.mean())
    )
