"""Objects that are hard to place: meshes from registries, and shapes by code whose symmetry only a little breaks."""

import subprocess
from collections.abc import Callable
from functools import partial

import numpy as np
import trimesh
from scanned import CACHE, npm_mesh

from lucid_relic.capture.model import ScanModel
from lucid_relic.demo.shapes import box, capsule, ellipsoid, mesh_of, revolved, smooth_union, sphere, torus
from lucid_relic.types import TriangleMesh

CGAL = "usr/share/doc/libcgal-dev/data.tar.gz"  # in Debian's package libcgal-demo
Field = Callable[[np.ndarray], np.ndarray]


def cgal_mesh(name: str, size_mm: float = 100.0) -> TriangleMesh:
    """A mesh of Debian's `libcgal-demo`, its longest side `size_mm`, standing on z = 0."""
    folder = CACHE / "cgal"
    file = folder / "data" / "meshes" / f"{name}.off"
    if not file.exists():
        folder.mkdir(parents=True, exist_ok=True)
        fetch = f"apt-get download -qq libcgal-demo && dpkg -x libcgal-demo*.deb . && tar -xzf {CGAL} data/meshes"
        subprocess.run(["sh", "-c", fetch], cwd=folder, check=True)
    read = trimesh.load(file, process=True)
    v = np.asarray(read.vertices)[:, [2, 0, 1]]
    v = (v - (v.max(0) + v.min(0)) / 2) * size_mm / np.ptp(v, axis=0).max()
    v[:, 2] -= v[:, 2].min()
    return TriangleMesh(v.astype(np.float32), np.asarray(read.faces, np.int32))


def _painted(mesh: TriangleMesh, albedo: np.ndarray) -> ScanModel:
    return ScanModel(mesh, albedo.astype(np.float32), np.zeros(len(albedo), np.float32))


def _halves(p: np.ndarray, one: tuple[float, ...], other: tuple[float, ...]) -> np.ndarray:
    """Two paints with a wavy border between them, on either side of x = 0, and fine stripes over both."""
    side = p[:, 0] + 5 * np.sin(p[:, 2] / 9) > 0
    stripes = 1 + 0.25 * np.sin(p[:, 1] / 2.5)[:, None]
    return np.where(side[:, None], one, other) * stripes


def _twofold(lobe: Field) -> Field:
    """A shape that is the same after half a turn about z."""
    return lambda p: smooth_union(lobe(p), lobe(p * np.float32([-1, -1, 1])), 4)


def _cleat(p: np.ndarray) -> np.ndarray:
    d = capsule(p, (-4, 2, 30), (44, 10, 40), 11, 6)
    d = smooth_union(d, box(p, (9, 7, 12), (11, 9, 12), 3), 5)
    return smooth_union(d, sphere(p, (20, -9, 30), 8), 4)


def _lozenge(p: np.ndarray) -> np.ndarray:
    d = ellipsoid(p, (0, 0, 26), (40, 24, 26))
    return smooth_union(d, ellipsoid(p, (26, 14, 34), (14, 9, 16)), 4)


def _bar(p: np.ndarray) -> np.ndarray:
    d = box(p, (0, 0, 17), (45, 20, 17), 4)
    return smooth_union(d, capsule(p, (30, 8, 34), (36, -9, 38), 6, 4), 3)


TWOFOLD: dict[str, Field] = {"cleat": _twofold(_cleat), "lozenge": _twofold(_lozenge), "bar": _twofold(_bar)}
VASE = [(0, 80), (16, 80), (18, 70), (29, 48), (34, 30), (30, 12), (20, 0), (0, 0)]
DOME = [(0, 62), (14, 58), (30, 44), (38, 24), (40, 8), (38, 0), (0, 0)]
BOBBIN = [(0, 70), (26, 70), (27, 62), (15, 50), (14, 24), (27, 10), (27, 0), (0, 0)]


def _with(profile: list[tuple[float, float]], part: Field, reach: float = 2.0) -> Field:
    return lambda p: smooth_union(revolved(p, profile), part(p), reach)


KNOBBED: dict[str, Field] = {
    "vase with a handle": _with(VASE, lambda p: torus(p - np.float32([31, 0, 50]), (0, 0, 0), 1, 14, 4)),
    "dome with a knob": _with(DOME, lambda p: sphere(p, (38, 0, 30), 5)),
    "bobbin with a lug": _with(BOBBIN, lambda p: box(p, (20, 0, 37), (7, 3, 4), 1.5)),
    "vase with a small knob": _with(VASE, lambda p: sphere(p, (34, 0, 40), 3.5)),
    "dome with a rib": _with(DOME, lambda p: capsule(p, (36, 0, 40), (42, 0, 12), 2.5, 2.5)),
}


def _plate(seed: int, p: np.ndarray) -> np.ndarray:
    """A plate of 3 mm with low relief on both sides that no symmetry keeps."""
    rng = np.random.default_rng(seed)
    d = box(p, (0, 0, 1.5), (46, 32, 1.5), 0.5)
    for _ in range(14):
        x, y = rng.uniform(-40, 40), rng.uniform(-26, 26)
        r, h = rng.uniform(3, 8), rng.uniform(0.5, 1.1)
        d = d - h * np.exp(-(((p[:, 0] - x) ** 2 + (p[:, 1] - y) ** 2) / r**2)) * (0.4 + 0.6 * (p[:, 2] > 1.5))
    return d


PLATES: dict[str, Field] = {f"plate {n}": partial(_plate, n) for n in (1, 2, 3, 4, 5)}


def _mesh(field: Field) -> TriangleMesh:
    return mesh_of(field, (-62, -50, -3), (62, 50, 100), 0.8)


def twofold(name: str) -> ScanModel:
    """A shape with a twofold symmetry whose halves have different colours."""
    mesh = _mesh(TWOFOLD[name])
    return _painted(mesh, _halves(mesh.vertices, (0.45, 0.14, 0.1), (0.12, 0.2, 0.4)))


def knobbed(name: str) -> ScanModel:
    """A body of revolution with a small part that breaks the symmetry; painted in one colour."""
    return ScanModel.plain(_mesh(KNOBBED[name]))


def plate(name: str) -> ScanModel:
    """A flat plate with relief, of one colour with a faint mottle."""
    mesh = _mesh(PLATES[name])
    p = mesh.vertices
    mottle = 1 + 0.06 * np.sin(p[:, :1] / 1.7) * np.sin(p[:, 1:2] / 2.1)
    return _painted(mesh, np.array([0.5, 0.46, 0.4]) * mottle)


def painted_vase() -> ScanModel:
    """A body of revolution whose paint, which nowhere repeats, alone tells round its sides."""
    mesh = mesh_of(lambda p: revolved(p, VASE), (-38, -38, -4), (38, 38, 84), 0.8)
    p = mesh.vertices
    around = np.arctan2(p[:, 1], p[:, 0])
    waves = [
        np.sin(3 * around + p[:, 2] / 9),
        np.sin(5 * around - p[:, 2] / 6 + 1),
        np.sin(8 * around + 2 + np.sin(p[:, 2] / 11)),
    ]
    return _painted(mesh, np.clip(0.42 + 0.14 * np.sum(waves, axis=0), 0.1, 0.85)[:, None] * np.array([1, 0.85, 0.7]))


def plain(name: str) -> ScanModel:
    """An `organic` mesh in one grey: only its shape tells."""
    mesh = organic(name)
    return _painted(mesh, np.full((len(mesh.vertices), 3), 0.55))


def organic(name: str) -> TriangleMesh:
    """A mesh without symmetry: of npm or of `libcgal-demo`."""
    return npm_mesh(name) if name in ("dragon", "bunny") else cgal_mesh(name)
