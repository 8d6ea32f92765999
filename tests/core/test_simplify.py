"""Simplifying: closed forms on plane and sphere, deviation, borders, seams, solids that stay solids."""

import numpy as np
import pytest
from manifold3d import Manifold, Mesh
from scenes import grid_plane, torus, uv_sphere

from lucid_relic.errors import StepNotPossible
from lucid_relic.geometry.bvh import TriangleTree
from lucid_relic.geometry.topology import edge_table
from lucid_relic.inspection.mesh_check import check_mesh
from lucid_relic.mending.seams import charts, seam_vertices
from lucid_relic.mending.simplify import hausdorff, simplify
from lucid_relic.mending.untangle import untangled
from lucid_relic.types import Texture, TriangleMesh


def test_a_plane_costs_nothing_and_keeps_its_outline() -> None:
    # Closed form: every quadric of a plane vanishes on it, so the reduced surface is the plane itself.
    plane = grid_plane(40, 30, 1.0)
    out = simplify(plane, 60).mesh
    assert len(out.faces) <= 60
    assert np.abs(out.vertices[:, 2]).max() < 1e-4
    assert out.area_mm2() == pytest.approx(40 * 30, rel=1e-4)
    assert np.allclose([out.vertices.min(0), out.vertices.max(0)], [[0, 0, 0], [40, 30, 0]], atol=1e-3)


def test_a_sphere_comes_off_by_the_sagitta_of_its_triangles() -> None:
    # Closed form: n triangles of equal area inscribed in a sphere of radius r have edges a with
    # n·a²·√3/4 = 4πr²; midway the surface lies r - √(r² - a²/3) inside. Optimal placing halves that at best.
    radius, wanted = 20.0, 800
    out = simplify(uv_sphere(radius, 96, 192), wanted).mesh
    edge_sq = 4 * np.pi * radius**2 / wanted / (np.sqrt(3) / 4)
    sagitta = radius - np.sqrt(radius**2 - edge_sq / 3)
    middles = np.linalg.norm(out.corners.mean(axis=1), axis=1)
    assert np.abs(middles - radius).mean() < sagitta
    assert np.abs(np.linalg.norm(out.vertices, axis=1) - radius).max() < 1.5 * sagitta
    assert out.volume_mm3() == pytest.approx(4 / 3 * np.pi * radius**3, rel=0.01)


@pytest.mark.parametrize("tolerance", [0.05, 0.3])
def test_deviation_is_kept_and_reported(tolerance: float) -> None:
    solid = torus(20, 6, 128, 64)
    out = simplify(solid, 4, tolerance)
    assert out.hausdorff_mm == pytest.approx(hausdorff(solid, out.mesh)) and out.hausdorff_mm <= tolerance
    assert len(out.mesh.faces) < 0.6 * len(solid.faces)
    distance = TriangleTree(solid).closest(out.mesh.corners.mean(axis=1))[0]
    assert distance.max() <= tolerance


def test_a_coarser_tolerance_gives_fewer_triangles() -> None:
    solid = torus(20, 6, 96, 48)
    counts = [len(simplify(solid, 4, t).mesh.faces) for t in (0.05, 0.2, 0.8)]
    assert counts[0] > counts[1] > counts[2]


def test_solids_stay_solid_and_keep_their_hole() -> None:
    out = simplify(torus(20, 6, 128, 64), 500).mesh
    report = check_mesh(out)
    assert report.watertight and report.vertex_manifold and report.self_intersections == 0
    edges, _, _ = edge_table(out.faces)
    assert len(out.vertices) - len(edges) + len(out.faces) == 0  # Euler number of a torus
    solid = Manifold(Mesh(out.vertices, out.faces.astype(np.uint32)))
    assert solid.genus() == 1 and solid.volume() == pytest.approx(out.volume_mm3(), rel=1e-4)


def test_birth_names_the_original_faces() -> None:
    solid = uv_sphere(10, 24, 48)
    made_up = solid.vertices[solid.faces].mean(axis=1)[:, 2] < 0
    out = simplify(TriangleMesh(solid.vertices, solid.faces, None, made_up), 400)
    assert np.array_equal(out.mesh.made_up, made_up[out.birth])
    low = out.mesh.corners.mean(axis=1)[:, 2]
    assert (out.mesh.made_up == (low < 0)).mean() > 0.93


def _two_charts() -> TriangleMesh:
    """A strip whose left and right half lie in different corners of the texture."""
    plane = grid_plane(20, 10, 0.5)
    flat = plane.corners[..., :2].astype(np.float64)
    right = flat[..., 0].mean(axis=1) > 10
    uv = np.where(right[:, None, None], (flat - [10, 0]) / 30 + [0.6, 0.0], flat / 30)
    image = np.zeros((64, 64, 3), np.uint8)
    return TriangleMesh(plane.vertices, plane.faces, None, None, Texture(image, uv.astype(np.float32), 1.0))


def test_charts_and_seams_are_found() -> None:
    strip = _two_charts()
    assert len(np.unique(charts(strip))) == 2
    assert np.allclose(strip.vertices[seam_vertices(strip)][:, 0], 10.0)


def test_a_texture_survives_with_its_seam() -> None:
    strip = _two_charts()
    out = simplify(strip, 200, keep_texture=True).mesh
    assert len(out.faces) < 0.5 * len(strip.faces)
    right = out.corners[..., 0].mean(axis=1) > 10
    x, y = out.corners[..., 0], out.corners[..., 1]
    u = np.where(right[:, None], (x - 10) / 30 + 0.6, x / 30)
    assert np.abs(out.texture.uv[..., 0] - u).max() < 1e-3
    assert np.abs(out.texture.uv[..., 1] - y / 30).max() < 1e-3
    assert ((out.corners[..., 0] > 10 - 1e-3).all(1) | (out.corners[..., 0] < 10 + 1e-3).all(1)).all()


def test_without_keeping_the_texture_goes() -> None:
    assert simplify(_two_charts(), 100).mesh.texture is None


def test_crossing_triangles_are_relaxed_apart() -> None:
    ball = uv_sphere(10, 32, 64)
    vertices = ball.vertices.copy()
    worst = int(np.argmax(vertices[:, 0]))
    vertices[worst] = [-14.0, 0.5, 0.3]  # poked through the far side
    broken = TriangleMesh(vertices, ball.faces)
    assert TriangleTree(broken).crossings() > 0
    mended, left = untangled(broken)
    assert TriangleTree(mended).crossings() == 0 and not len(left)
    assert np.array_equal(mended.faces, ball.faces)


def test_too_few_triangles_are_refused() -> None:
    with pytest.raises(StepNotPossible, match="4 triangles"):
        simplify(uv_sphere(5, 8, 16), 3)
