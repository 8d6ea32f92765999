"""Evening out triangles: lengths, valences, sharp edges, the surface itself."""

import numpy as np
import pytest
import trimesh
from scenes import grid_plane, torus, uv_sphere

from lucid_relic.errors import StepNotPossible
from lucid_relic.geometry.topology import edge_table
from lucid_relic.inspection.mesh_check import check_mesh
from lucid_relic.mending.remesh import remesh
from lucid_relic.mending.simplify import hausdorff
from lucid_relic.progress import silent
from lucid_relic.types import TriangleMesh


def _lengths(mesh: TriangleMesh) -> np.ndarray:
    edges, _, _ = edge_table(mesh.faces)
    return np.linalg.norm(mesh.vertices[edges[:, 0]] - mesh.vertices[edges[:, 1]], axis=1)


@pytest.mark.parametrize("edge", [0.8, 1.6])
def test_edges_of_a_sphere_become_alike(edge: float) -> None:
    ball = uv_sphere(15, 48, 96)
    out = remesh(ball, edge, silent)
    length = _lengths(out)
    assert length.mean() == pytest.approx(edge, rel=0.15)
    assert length.std() < 0.25 * length.mean() and length.max() < 2 * edge
    report = check_mesh(out)
    assert report.watertight and report.vertex_manifold and report.self_intersections == 0
    assert out.volume_mm3() == pytest.approx(ball.volume_mm3(), rel=0.01)


def test_valences_gather_at_six() -> None:
    out = remesh(torus(18, 6, 96, 48), 1.2, silent)
    edges, _, _ = edge_table(out.faces)
    valence = np.bincount(edges.ravel())
    assert (np.abs(valence - 6) <= 1).mean() > 0.93
    assert len(out.vertices) - len(edges) + len(out.faces) == 0


def test_sharp_edges_do_not_wear_off() -> None:
    box = trimesh.creation.box((20, 20, 20)).subdivide().subdivide()
    cube = TriangleMesh(box.vertices.astype(np.float32), box.faces.astype(np.int32))
    out = remesh(cube, 1.5, silent)
    assert hausdorff(cube, out) < 1e-5
    assert out.volume_mm3() == pytest.approx(8000, rel=1e-6)


def test_a_border_stays_where_it_is() -> None:
    plane = grid_plane(20, 10, 2.0)
    out = remesh(plane, 0.9, silent)
    assert out.area_mm2() == pytest.approx(200, rel=1e-5)
    assert check_mesh(out).holes == 1


def test_colours_and_flags_follow_the_place() -> None:
    ball = uv_sphere(10, 32, 64)
    colours = np.clip(127 + ball.vertices * 12, 0, 255).astype(np.uint8)
    made_up = ball.corners.mean(axis=1)[:, 2] > 0
    out = remesh(TriangleMesh(ball.vertices, ball.faces, colours, made_up), 1.0, silent)
    assert np.abs(out.colours.astype(int) - np.clip(127 + out.vertices * 12, 0, 255)).mean() < 3
    assert (out.made_up == (out.corners.mean(axis=1)[:, 2] > 0)).mean() > 0.97


def test_a_length_that_would_flood_memory_is_refused() -> None:
    with pytest.raises(StepNotPossible, match="million triangles"):
        remesh(uv_sphere(50, 12, 24), 0.01, silent)
