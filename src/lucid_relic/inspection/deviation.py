"""How far a surface lies off a reference: another take, a pass, or a mesh that came in, with sides, spread and extremes.

Only what has a counterpart counts: where the reference ends, or is farther than the reach, nothing is known.
"""

from dataclasses import dataclass
from typing import Any

import numpy as np
from scipy.spatial import cKDTree

from lucid_relic.errors import StepNotPossible, quoted
from lucid_relic.geometry.off import signed_off
from lucid_relic.geometry.pass_points import came_points, pass_points
from lucid_relic.geometry.spacing import pixel_spacing
from lucid_relic.types import PointCloud, ScanState, TriangleMesh

REACH = 0.05  # of the object: what lies farther off is no counterpart
CLOSE = 0.002  # of the object: nearer than this the way tells no direction
SPACINGS = 3.0  # that a place may lie beside the points of a reference
BINS = 24
EXTREMES, APART = 4, 0.08  # places that are told, and how far apart as a share of the object
USUAL = 98.0  # per cent of places that the scale of colours reaches over


@dataclass(frozen=True)
class Deviation:
    """off (n,) float64 mm of places, outside the reference positive, NaN where nothing is known; facts in plain JSON."""

    off: np.ndarray
    facts: dict[str, Any]


def reference(state: ScanState, name: str) -> TriangleMesh | PointCloud:
    """The take or the pass of that name, where it lies on the object; raises `StepNotPossible` when there is none."""
    take = next((t for t in state.takes if t.name == name), None)
    if take is not None:
        return take.mesh()
    scan = next((p for p in state.passes if p.title == name), None)
    if scan is None:
        names = ", ".join([*(t.name for t in state.takes), *(p.title for p in state.passes)]) or "none"
        raise StepNotPossible(f"There is no take or pass {quoted(name)}; there are: {names}.")
    if not scan.placed:
        raise StepNotPossible(f"“{name}” is not placed on the object yet. Find its fit first.")
    if scan.cloud is not None and scan.cloud.surface is not None:
        return scan.cloud.surface.transformed(scan.T_object_pass)
    cloud = came_points(scan, True, False) if scan.cloud is not None else pass_points(scan, pixel_spacing(scan))
    return cloud.transformed(scan.T_object_pass)


def deviation(places: np.ndarray, other: TriangleMesh | PointCloud, tolerance_mm: float = 0.0) -> Deviation:
    """Of places (n, 3) of a surface from a reference; tolerance_mm is the band that is asked for (0: none)."""
    size = float(np.linalg.norm(np.ptp(places, axis=0)))
    own = places.astype(np.float64)
    off = signed_off(other, own, CLOSE * size) if isinstance(other, TriangleMesh) else _off_points(own, other)
    off[np.abs(off) > REACH * size] = np.nan
    known = off[~np.isnan(off)]
    if not len(known):
        raise StepNotPossible("Nothing of this surface lies near the reference. Align it first.")
    wide = max(float(np.percentile(np.abs(known), USUAL)), 1e-6)
    counts, _ = np.histogram(known.clip(-wide, wide), bins=BINS, range=(-wide, wide))
    facts = {
        "mean_mm": float(known.mean()),
        "rms_mm": float(np.sqrt((known**2).mean())),
        "p95_mm": float(np.percentile(np.abs(known), 95)),
        "max_mm": float(np.abs(known).max()),
        "known_share": float(len(known) / len(off)),
        "within_share": float((np.abs(known) <= tolerance_mm).mean()) if tolerance_mm else None,
        "range_mm": wide,
        "bins": (counts / len(known)).tolist(),
        "extremes": _extremes(own, off, APART * size),
    }
    return Deviation(off, facts)


def _off_points(places: np.ndarray, other: PointCloud) -> np.ndarray:
    points = other.points.astype(np.float64)
    tree = cKDTree(points)
    some = points[:: max(len(points) // 5000, 1)]
    spacing = float(np.median(tree.query(some, k=2)[0][:, 1]))
    _, nearest = tree.query(places)
    way = places - points[nearest]
    along = np.einsum("ij,ij->i", way, other.normals[nearest].astype(np.float64))
    beside = np.linalg.norm(way - along[:, None] * other.normals[nearest], axis=1)
    return np.where(beside > SPACINGS * spacing, np.nan, along)


def _extremes(places: np.ndarray, off: np.ndarray, apart: float) -> list[dict[str, Any]]:
    """The places that lie farthest off, the farthest first, none near another."""
    out: list[dict[str, Any]] = []
    size = np.where(np.isnan(off), -1.0, np.abs(off))
    while len(out) < EXTREMES and size.max() > 0:
        n = int(size.argmax())
        out.append({"at": [round(float(v), 3) for v in places[n]], "off_mm": float(off[n])})
        size[np.linalg.norm(places - places[n], axis=1) < apart] = -1.0
    return out
