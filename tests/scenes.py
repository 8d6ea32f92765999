"""Small scenes that several tests share: analytic meshes and quick captures with known truth."""

from dataclasses import replace
from pathlib import Path

import numpy as np

from lucid_relic.capture.model import ScanModel
from lucid_relic.capture.virtual import ScannerTraits, TurntablePlan, VirtualScanner
from lucid_relic.demo.shapes import box, capsule, mesh_of, smooth_union, sphere
from lucid_relic.io.capture_folder import CaptureWriter
from lucid_relic.types import TriangleMesh

QUICK = ScannerTraits(width=240, height=180, focal_px=324.0, standoff_mm=260.0, noise_mm=0.04)


def knot_field(p: np.ndarray) -> np.ndarray:
    """A lump without symmetry, about 60 mm: a body, a horn, a foot and a boss."""
    d = sphere(p, (0, 0, 24), 20)
    d = smooth_union(d, capsule(p, (8, 4, 36), (22, 14, 52), 8, 3.5), 4)
    d = smooth_union(d, box(p, (-6, 0, 5), (20, 14, 5), 2), 4)
    d = smooth_union(d, sphere(p, (-14, -12, 30), 9), 3)
    return smooth_union(d, capsule(p, (0, -16, 22), (6, -26, 12), 6, 4), 3)


def knot_model(voxel_mm: float = 1.0) -> ScanModel:
    mesh = mesh_of(knot_field, (-30, -34, -4), (30, 30, 62), voxel_mm)
    p = mesh.vertices
    albedo = 0.35 + 0.25 * np.sin(p / 6.0)
    return ScanModel(mesh, albedo.astype(np.float32), np.zeros(len(p), np.float32))


def uv_sphere(radius: float, rings: int = 64, sectors: int = 128) -> TriangleMesh:
    """A closed sphere with one vertex at each pole."""
    theta = np.linspace(0, np.pi, rings + 1)[1:-1]
    phi = np.arange(sectors) * 2 * np.pi / sectors
    t, f = np.meshgrid(theta, phi, indexing="ij")
    body = np.stack([np.sin(t) * np.cos(f), np.sin(t) * np.sin(f), np.cos(t)], axis=-1).reshape(-1, 3)
    vertices = np.concatenate([[[0, 0, 1]], body, [[0, 0, -1]]]) * radius
    grid = 1 + np.arange((rings - 1) * sectors).reshape(rings - 1, sectors)
    right = np.roll(grid, -1, axis=1)
    quads = np.stack([grid[:-1], grid[1:], right[1:], right[:-1]], axis=-1).reshape(-1, 4)
    last = len(vertices) - 1
    top = np.stack([np.zeros(sectors, int), grid[0], right[0]], axis=1)
    bottom = np.stack([np.full(sectors, last), right[-1], grid[-1]], axis=1)
    faces = np.concatenate([top, quads[:, [0, 1, 2]], quads[:, [0, 2, 3]], bottom])
    return TriangleMesh(vertices.astype(np.float32), faces.astype(np.int32))


def torus(ring: float, tube: float, n: int = 96, m: int = 48) -> TriangleMesh:
    """A closed torus about z."""
    a, b = np.meshgrid(np.arange(n) * 2 * np.pi / n, np.arange(m) * 2 * np.pi / m, indexing="ij")
    r = ring + tube * np.cos(b)
    vertices = np.stack([r * np.cos(a), r * np.sin(a), tube * np.sin(b)], axis=-1).reshape(-1, 3)
    grid = np.arange(n * m).reshape(n, m)
    i, j = np.roll(grid, -1, axis=0), np.roll(grid, -1, axis=1)
    ij = np.roll(i, -1, axis=1)
    faces = np.concatenate([np.stack([grid, i, ij], -1).reshape(-1, 3), np.stack([grid, ij, j], -1).reshape(-1, 3)])
    return TriangleMesh(vertices.astype(np.float32), faces.astype(np.int32))


def write_capture(
    root: Path, model: ScanModel, plan: TurntablePlan, seed: int = 0, traits: ScannerTraits = QUICK
) -> VirtualScanner:
    """Write a capture folder and return the scanner, whose truth only tests may read."""
    scanner = VirtualScanner(model, plan, traits, seed)
    writer = CaptureWriter(root, scanner.manifest())
    for index in range(scanner.frame_count()):
        shot = scanner.shoot(index)
        writer.add(shot.depth, shot.colour, **shot.fields)
    writer.flush()
    return scanner


def two_passes(root: Path, stops: int = 12) -> tuple[Path, Path, VirtualScanner, VirtualScanner]:
    """The lump captured upright and tipped by 90 degrees."""
    model = knot_model()
    upright, tipped = root / "upright", root / "tipped"
    a = write_capture(upright, model, TurntablePlan(stops=stops), seed=1)
    b = write_capture(tipped, model, replace(TurntablePlan(stops=stops), tip_deg=90.0, title="tipped"), seed=2)
    return upright, tipped, a, b
