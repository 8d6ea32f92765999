"""Smoothing and sharpening: the bound, the volume and the edges held, noise gone, and only where it was asked for."""

from dataclasses import replace

import numpy as np
import pytest
import trimesh
from scenes import knot_model

from lucid_relic.errors import ParameterError, StepNotPossible
from lucid_relic.mending.smooth import smooth
from lucid_relic.operations import get_operation
from lucid_relic.progress import silent
from lucid_relic.types import BallStroke, Marks, ScanState, TriangleMesh

NOISE = 0.05


def cube(side: float = 20.0, step: float = 1.0) -> TriangleMesh:
    """A cube of even triangles, about its own middle."""
    made = trimesh.creation.box((side, side, side)).subdivide_to_size(step * 1.5)
    made.merge_vertices()
    return TriangleMesh(made.vertices.astype(np.float32), made.faces.astype(np.int32))


def ball() -> TriangleMesh:
    """A ball of even triangles, radius 20 mm, edges about 1.3 mm."""
    made = trimesh.creation.icosphere(subdivisions=4, radius=20.0)
    return TriangleMesh(made.vertices.astype(np.float32), made.faces.astype(np.int32))


def rough(mesh: TriangleMesh, noise: float = NOISE, seed: int = 3) -> TriangleMesh:
    """The mesh with noise along its normals."""
    rng = np.random.default_rng(seed)
    off = rng.normal(size=len(mesh.vertices))[:, None] * noise * mesh.vertex_normals()
    return replace(mesh, vertices=(mesh.vertices + off).astype(np.float32))


def shifts(a: TriangleMesh, b: TriangleMesh) -> np.ndarray:
    return np.linalg.norm(b.vertices.astype(np.float64) - a.vertices.astype(np.float64), axis=1)


@pytest.mark.parametrize("make", [ball, cube, lambda: knot_model(1.6).mesh], ids=["ball", "cube", "lump"])
@pytest.mark.parametrize("most", [0.004, 0.05, 0.3])
def test_no_vertex_moves_farther_than_allowed_and_the_volume_stays(make, most: float) -> None:
    before = rough(make())
    for sharpen in (False, True):
        after = smooth(before, most, sharpen)
        assert shifts(before, after).max() <= most + 1e-6 and shifts(before, after).max() > 0.3 * min(most, NOISE)
        assert after.volume_mm3() == pytest.approx(before.volume_mm3(), rel=0.002)
        assert np.array_equal(after.faces, before.faces)


def test_the_noise_of_a_ball_goes_and_its_size_stays() -> None:
    before, after = rough(ball()), smooth(rough(ball()), 0.3)
    off = lambda mesh: np.linalg.norm(mesh.vertices, axis=1) - 20.0  # noqa: E731
    assert off(after).std() < 0.45 * off(before).std() and abs(off(after).mean()) < 0.01


def test_the_edges_of_a_cube_stay_where_they_are() -> None:
    true = cube()
    after = smooth(rough(true), 0.3)
    onto = np.sort(np.abs(true.vertices), axis=1)
    edge = onto[:, 1] > 9.99  # two of the three coordinates lie on a face
    inner = (onto[:, 1] < 8.5) & (onto[:, 2] > 9.99)
    flat = lambda mesh: (np.abs(mesh.vertices).max(axis=1) - 10.0)[inner].std()  # noqa: E731
    assert flat(after) < 0.5 * flat(rough(true))
    now = np.sort(np.abs(after.vertices[edge]), axis=1)[:, 1:]
    # A rounded edge would draw its vertices inwards by 0.41 of its radius: an edge of 1 mm more would show as 0.4 mm.
    assert np.abs(now - 10.0).max() < 0.25 and np.median(10.0 - now) < 0.05


def test_sharpening_goes_the_other_way() -> None:
    before = rough(ball(), 0.02)
    even, sharp = smooth(before, 0.1), smooth(before, 0.1, sharpen=True)
    a, b = (m.vertices.astype(np.float64) - before.vertices for m in (even, sharp))
    moved = np.linalg.norm(a, axis=1) > 0.005
    assert moved.sum() > 500 and np.mean(np.einsum("nk,nk->n", a, b)[moved] < 0) > 0.97


def test_only_what_is_marked_moves() -> None:
    before = rough(ball())
    marks = Marks((BallStroke(((0.0, 0.0, 20.0),), 8.0),))
    step = get_operation("smooth")
    state, report = step.run(ScanState((), mesh=before), step.parameters(most_mm=0.1, marks=marks), silent)
    inside = np.linalg.norm(before.vertices - [0, 0, 20], axis=1) < 8.0
    moved = shifts(before, state.mesh)
    assert moved[~inside].max() == 0 and moved[inside].mean() > 0.008
    # A vertex moves when all its triangles are marked by their middles: at the rim of the marks some stay.
    assert (
        0.7 * inside.sum() < report["vertices"] <= inside.sum()
        and report["most_mm"] <= 0.1
        and abs(report["volume_change"]) < 2e-3
    )
    assert step.headline_of(report).startswith("moved 0.0")
    nothing = Marks((BallStroke(((0.0, 0.0, 90.0),), 8.0),))
    with pytest.raises(StepNotPossible, match="Nothing of the mesh is marked"):
        step.run(ScanState((), mesh=before), step.parameters(marks=nothing), silent)
    with pytest.raises(ParameterError):
        step.parameters.from_dict({"most_mm": 0})


def test_an_open_mesh_is_smoothed_as_well_and_keeps_what_it_carries() -> None:
    whole = ball()
    half = TriangleMesh(whole.vertices, whole.faces[: len(whole.faces) // 2])
    carried = replace(
        half,
        colours=np.zeros((len(half.vertices), 3), np.uint8),
        made_up=np.arange(len(half.faces)) % 2 == 0,
    )
    after = smooth(rough(carried), 0.05)
    assert after.colours is carried.colours and after.made_up is carried.made_up
    assert np.isfinite(after.vertices).all()
