"""How faces hang together, nearest places on triangles."""

import numpy as np
import pytest
import trimesh
from scenes import grid_plane, uv_sphere
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from lucid_relic.geometry.bvh import TriangleTree, corner_shares, crossing_near, faces_near
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


def _tangle(seed: int, vertices: int, faces: int) -> np.ndarray:
    """Faces (m, 3) that hang together at random: edges of one to many faces, fans of all kinds."""
    rng = np.random.default_rng(seed)
    return np.array([rng.choice(vertices, 3, replace=False) for _ in range(faces)], np.int32)


def _fan(seed: int, faces: int) -> np.ndarray:
    """Faces (m, 3) around one vertex, in any order, each of them twice."""
    around = np.arange(1, faces + 1)
    fan = np.column_stack([np.zeros(faces, int), around, np.roll(around, -1)])
    return np.random.default_rng(seed).permutation(np.concatenate([fan, fan])).astype(np.int32)


@pytest.mark.parametrize(
    "faces", [_tangle(1, 12, 60), _tangle(2, 60, 40), _fan(3, 300), uv_sphere(5, 8, 16).faces, BOW_TIE[:0]]
)
def test_sides_and_fans_are_those_of_sorting_and_of_a_graph(faces: np.ndarray) -> None:
    # Independent references: NumPy's unique and stable sort, SciPy's connected components.
    sides = np.sort(np.stack([faces, np.roll(faces, -1, axis=1)], axis=2).reshape(-1, 2), axis=1)
    keys = sides[:, 0].astype(np.int64) << 32 | sides[:, 1]
    unique, edge_of, counts = np.unique(keys, return_inverse=True, return_counts=True)
    edges, uses, side_edge = edge_table(faces)
    assert np.array_equal(edges, np.stack([unique >> 32, unique & 0xFFFFFFFF], axis=1))
    assert np.array_equal(uses, counts) and np.array_equal(side_edge, edge_of.reshape(-1, 3))
    order = np.argsort(keys, kind="stable")
    same = np.flatnonzero(keys[order][1:] == keys[order][:-1])
    a, b = side_pairs(faces)
    assert np.array_equal(a, order[same]) and np.array_equal(b, order[same + 1])
    corner = lambda side, vertex: 3 * (side // 3) + list(faces[side // 3]).index(vertex)  # noqa: E731
    joined = [(corner(s, v), corner(t, v)) for s, t in zip(a, b, strict=True) for v in sides[s]]
    r, c = np.array(joined, int).reshape(-1, 2).T
    graph = coo_matrix((np.ones(len(r)), (r, c)), shape=(3 * len(faces),) * 2)
    assert np.array_equal(corner_fans(faces).ravel(), connected_components(graph, directed=False)[1])


def test_the_farthest_point_is_the_one_that_closest_tells() -> None:
    ball, rng = uv_sphere(10, 32, 64), np.random.default_rng(3)
    tree = TriangleTree(ball)
    points = np.concatenate([rng.normal(size=(9000, 3)), ball.vertices + rng.normal(size=ball.vertices.shape) * 0.1])
    away, _ = tree.closest(points)
    assert tree.farthest(points) == away.max()
    # The one that is farthest is none of those that are asked first.
    alone = np.tile(ball.vertices[:1].astype(np.float64), (500, 1))
    alone[333] = [0, 0, 31.0]
    assert np.isclose(tree.farthest(alone), tree.closest(alone[333:334])[0][0]) and tree.farthest(alone) > 20
    assert tree.farthest(points[:0]) == 0


def test_what_is_near_enough_is_not_asked_more_exactly() -> None:
    ball, rng = uv_sphere(10, 32, 64), np.random.default_rng(4)
    tree, points = TriangleTree(ball), rng.normal(size=(2000, 3)) * 8
    exact, told = tree.closest(points, 6.0)[0], tree.closest(points, 6.0, enough=2.0)[0]
    far = exact > 2
    assert np.array_equal(told[far], exact[far]) and (told[~far] <= 2).all() and (told >= exact).all()
    assert (told[~far] > exact[~far]).any()


def test_faces_near_some_are_all_that_lie_within_reach() -> None:
    ball = uv_sphere(10, 24, 48)
    vertices = ball.vertices.copy()
    vertices[int(np.argmax(vertices[:, 2]))] = [0, 0, 40.0]  # long triangles that reach far from their middles
    mesh = TriangleMesh(vertices, ball.faces)
    centres = mesh.face_centres().astype(np.float64)
    for some in (np.arange(5), np.array([700]), np.array([3, 1500])):
        corners = mesh.corners[some].astype(np.float64)
        reach = 2.5 * np.linalg.norm(corners - np.roll(corners, 1, axis=1), axis=2).max()
        tip = np.linalg.norm(mesh.corners - centres[:, None], axis=2).max(axis=1)
        away = cKDTree(centres[some]).query(centres)[0]
        assert np.array_equal(faces_near(mesh, some, 2.5), np.flatnonzero(away <= reach + tip))
