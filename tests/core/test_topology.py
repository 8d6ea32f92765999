"""How faces hang together, nearest places on triangles."""

import numpy as np
import trimesh
from scenes import grid_plane, uv_sphere

from lucid_relic.geometry.bvh import TriangleTree, corner_shares, crossing_near
from lucid_relic.geometry.topology import corner_fans, edge_table, side_pairs, split_fans
from lucid_relic.inspection.mesh_check import check_mesh
from lucid_relic.mending.pieces import keep_over
from lucid_relic.types import TriangleMesh

BOW_TIE = np.array([[0, 1, 2], [0, 3, 4]], np.int32)
PLACES = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [-1, 0, 0], [0, -1, 0]], np.float32)


def test_a_vertex_between_two_fans_is_split() -> None:
    bow = TriangleMesh(PLACES, BOW_TIE, np.arange(15).reshape(5, 3).astype(np.uint8))
    assert not check_mesh(bow).vertex_manifold
    out = split_fans(bow)
    assert check_mesh(out).vertex_manifold and len(out.vertices) == 6
    assert np.array_equal(out.corners, bow.corners)
    assert np.array_equal(out.colours[out.faces], bow.colours[bow.faces])


def test_a_manifold_is_left_alone() -> None:
    ball = uv_sphere(5, 8, 16)
    assert split_fans(ball) is ball
    assert len(np.unique(corner_fans(ball.faces))) == len(ball.vertices)


def test_sides_pair_up_on_a_closed_mesh() -> None:
    ball = uv_sphere(5, 8, 16)
    a, b = side_pairs(ball.faces)
    edges, uses, _ = edge_table(ball.faces)
    assert len(a) == len(edges) and (uses == 2).all()
    start = ball.faces[a // 3, a % 3]
    assert np.array_equal(start, ball.faces[b // 3, (b % 3 + 1) % 3])


def test_border_edges_are_used_once() -> None:
    plane = grid_plane(4, 3, 1.0)
    _, uses, _ = edge_table(plane.faces)
    assert (uses == 1).sum() == 2 * (4 + 3)


def test_foot_agrees_with_trimesh() -> None:
    # Independent reference: trimesh.proximity.
    ball = uv_sphere(10, 16, 32)
    points = np.random.default_rng(1).normal(size=(300, 3)) * 9
    place, face, share = TriangleTree(ball).foot(points)
    reference = trimesh.Trimesh(ball.vertices, ball.faces, process=False)
    other, distance, _ = trimesh.proximity.closest_point_naive(reference, points)
    assert np.allclose(np.linalg.norm(place - points, axis=1), distance, atol=1e-5)
    assert np.allclose(np.einsum("nk,nkj->nj", share, ball.corners[face]), place, atol=1e-6)
    assert (share > -1e-9).all() and np.allclose(share.sum(axis=1), 1)


def test_shares_outside_a_triangle_lie_on_its_sides() -> None:
    corners = np.array([[[0, 0, 0], [1, 0, 0], [0, 1, 0]]] * 3, float)
    share = corner_shares(corners, np.array([[0.5, -1, 0], [2, 2, 0], [-1, -1, 3.0]]))
    assert np.allclose(share, [[0.5, 0.5, 0], [0, 0.5, 0.5], [1, 0, 0]])


def test_crossings_are_found_near_the_faces_asked_for() -> None:
    ball = uv_sphere(10, 32, 64)
    vertices = ball.vertices.copy()
    worst = int(np.argmax(vertices[:, 0]))
    vertices[worst] = [-14.0, 0.5, 0.3]
    broken = TriangleMesh(vertices, ball.faces)
    moved = np.flatnonzero((ball.faces == worst).any(axis=1))
    assert np.array_equal(crossing_near(broken, moved, 4.0), TriangleTree(broken).crossing_faces())
    assert not len(crossing_near(ball, moved, 4.0))


def test_pieces_go_by_the_diagonal_of_their_box() -> None:
    large, small = uv_sphere(10.0, 12, 24), uv_sphere(1.0, 8, 12)
    apart = TriangleMesh(
        np.concatenate([small.vertices + 30, large.vertices, [[99.0, 0, 0]]]).astype(np.float32),
        np.concatenate([small.faces, large.faces + len(small.vertices)]),
    )
    kept, dropped = keep_over(apart, 5.0)
    assert dropped == 1 and len(kept.faces) == len(large.faces) and np.abs(kept.vertices).max() < 11
    assert keep_over(apart, 3.0) == (apart, 0), "the small one is 3.4 mm across its corners"
    assert keep_over(apart, 50.0)[1] == 2
