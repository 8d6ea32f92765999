"""Volume, area and topology against closed formulas."""

import numpy as np
import pytest
from scenes import torus, uv_sphere

from lucid_relic.demo.shapes import mesh_of, sphere
from lucid_relic.demo.shapes import torus as torus_field
from lucid_relic.inspection.mesh_check import check_mesh
from lucid_relic.types import TriangleMesh


def euler(mesh: TriangleMesh) -> int:
    sides = np.sort(np.stack([mesh.faces, np.roll(mesh.faces, -1, 1)], 2).reshape(-1, 2), axis=1)
    return len(np.unique(mesh.faces)) - len(np.unique(sides, axis=0)) + len(mesh.faces)


def test_sphere_volume_and_area_follow_the_closed_formulas() -> None:
    # V = 4/3 π r³, A = 4 π r² (Archimedes); a polyhedron inside lies below both by O(1/n²).
    report = check_mesh(uv_sphere(10.0))
    assert report.watertight and report.edge_manifold and report.vertex_manifold
    assert report.self_intersections == 0 and report.components == 1
    assert report.volume_mm3 == pytest.approx(4 / 3 * np.pi * 1000, rel=3e-3)
    assert report.area_mm2 == pytest.approx(4 * np.pi * 100, rel=2e-3)


def test_torus_volume_and_area_follow_pappus() -> None:
    # Pappus of Alexandria: V = 2 π² R r², A = 4 π² R r.
    report = check_mesh(torus(20, 5))
    assert report.volume_mm3 == pytest.approx(2 * np.pi**2 * 20 * 25, rel=5e-3)
    assert report.area_mm2 == pytest.approx(4 * np.pi**2 * 100, rel=3e-3)


@pytest.mark.parametrize(("field", "genus"), [
    (lambda p: sphere(p, (0, 0, 0), 12), 0),
    (lambda p: torus_field(p, (0, 0, 0), 2, 13, 4), 1),
])  # fmt: skip
def test_marching_gives_the_right_euler_number(field, genus) -> None:
    # Euler-Poincaré: V - E + F = 2 - 2g.
    mesh = mesh_of(field, (-20, -20, -20), (20, 20, 20), 0.9)
    assert euler(mesh) == 2 - 2 * genus
    report = check_mesh(mesh)
    assert report.watertight and report.vertex_manifold and report.self_intersections == 0
    assert report.volume_mm3 > 0


def test_faults_are_found() -> None:
    ball = uv_sphere(5, 8, 12)
    opened = TriangleMesh(ball.vertices, ball.faces[1:])
    assert not check_mesh(opened).watertight and check_mesh(opened).holes == 1
    flipped = TriangleMesh(ball.vertices, np.concatenate([ball.faces[:1, ::-1], ball.faces[1:]]))
    assert not check_mesh(flipped).edge_manifold
    shifted = ball.vertices + np.float32([3, 0, 0])
    both = TriangleMesh(
        np.concatenate([ball.vertices, shifted]), np.concatenate([ball.faces, ball.faces + len(shifted)])
    )
    report = check_mesh(both)
    assert report.components == 2 and report.self_intersections > 10


def test_two_fans_at_one_vertex_are_not_vertex_manifold() -> None:
    v = np.float32([[0, 0, 0], [1, 0, 0], [0, 1, 0], [-1, 0, 0], [0, -1, 0]])
    hourglass = TriangleMesh(v, np.int32([[0, 1, 2], [0, 3, 4]]))
    assert not check_mesh(hourglass).vertex_manifold
    assert check_mesh(hourglass).edge_manifold
