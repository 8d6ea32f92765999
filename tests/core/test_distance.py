"""Distances and triangle trees against trimesh, and simplification against closed forms."""

import numpy as np
import pytest
import trimesh
from scenes import torus, uv_sphere

from lucid_relic.geometry.bvh import TriangleTree, faces_near
from lucid_relic.inspection.distance import compare
from lucid_relic.inspection.mesh_check import check_mesh
from lucid_relic.mending.pieces import keep_largest
from lucid_relic.mending.simplify import simplify
from lucid_relic.types import TriangleMesh


def test_closest_points_agree_with_trimesh() -> None:
    # Reference: trimesh.triangles.closest_point, brute force over all triangles.
    mesh = torus(20, 6, 24, 12)
    points = np.random.default_rng(1).uniform(-30, 30, (60, 3))
    ours, _ = TriangleTree(mesh).closest(points)
    every = np.repeat(mesh.corners[None].astype(float), len(points), axis=0).reshape(-1, 3, 3)
    nearest = trimesh.triangles.closest_point(every, np.repeat(points, len(mesh.faces), axis=0))
    theirs = (
        np.linalg.norm(nearest - np.repeat(points, len(mesh.faces), axis=0), axis=1).reshape(len(points), -1).min(1)
    )
    assert ours == pytest.approx(theirs, abs=1e-9)


def test_concentric_spheres_are_their_radii_apart() -> None:
    figures = compare(uv_sphere(10), uv_sphere(11), samples=4000)
    assert figures["to_other"]["mean_mm"] == pytest.approx(1.0, abs=0.02)
    assert figures["max_mm"] == pytest.approx(1.0, abs=0.03)


def test_simplifying_a_plane_costs_nothing() -> None:
    # Quadric error of coplanar faces is zero (Garland & Heckbert 1997), so the shape must be exact.
    n = 30
    x, y = np.meshgrid(np.arange(n), np.arange(n), indexing="ij")
    vertices = np.stack([x, y, 0 * x], -1).reshape(-1, 3).astype(np.float32)
    grid = np.arange(n * n).reshape(n, n)
    a, b, c, d = grid[:-1, :-1], grid[1:, :-1], grid[1:, 1:], grid[:-1, 1:]
    faces = np.concatenate([np.stack([a, b, c], -1).reshape(-1, 3), np.stack([a, c, d], -1).reshape(-1, 3)])
    plane = TriangleMesh(vertices, faces.astype(np.int32))
    small = simplify(plane, 60).mesh
    assert len(small.faces) <= 60
    assert np.abs(small.vertices[:, 2]).max() < 1e-4
    assert small.area_mm2() == pytest.approx(plane.area_mm2(), rel=1e-3)


def test_simplifying_a_sphere_keeps_it_closed_and_near() -> None:
    # An optimal mesh of N triangles on a sphere of radius r is off by about 2π r / (√3 N) (from memory);
    # quadric simplification should stay within a few times that.
    ball = uv_sphere(20, 80, 160)
    small = simplify(ball, 2000)
    report = check_mesh(small.mesh)
    assert report.watertight and report.vertex_manifold and report.triangles <= 2000
    off = np.abs(np.linalg.norm(small.mesh.vertices, axis=1) - 20)
    assert off.max() < 5 * 2 * np.pi * 20 / (np.sqrt(3) * 2000)
    assert np.all(np.diff(small.birth) > 0)


def test_largest_piece_is_kept() -> None:
    big, small = uv_sphere(5, 8, 12), uv_sphere(2, 8, 12)
    both = TriangleMesh(
        np.concatenate([small.vertices + np.float32(20), big.vertices]),
        np.concatenate([small.faces, big.faces + len(small.vertices)]),
    )
    kept, dropped = keep_largest(both)
    assert dropped == 1 and kept.volume_mm3() == pytest.approx(big.volume_mm3())


def test_faces_near_others_are_all_that_brute_force_finds() -> None:
    """Long triangles among small ones, too: each is near when its tip may come within reach."""
    rng = np.random.default_rng(2)
    middles = rng.uniform(-20, 20, (600, 1, 3))
    size = np.where(np.arange(600) % 50 == 0, 8.0, 0.4)[:, None, None]
    corners = (middles + size * rng.normal(size=(600, 3, 3))).astype(np.float32)
    mesh = TriangleMesh(corners.reshape(-1, 3), np.arange(1800, dtype=np.int32).reshape(-1, 3))
    given = np.array([3, 77, 310])
    centres = mesh.face_centres().astype(float)
    sides = np.linalg.norm(corners[given] - np.roll(corners[given], 1, axis=1), axis=2).max()
    tip = np.linalg.norm(corners - centres[:, None], axis=2).max(axis=1)
    away = np.linalg.norm(centres[:, None] - centres[given], axis=2).min(axis=1)
    assert np.array_equal(faces_near(mesh, given, 2.0), np.flatnonzero(away <= 2.0 * sides + tip))
