"""Holes of meshes of any origin: found, closed by choice, the patches going on as the surface does."""

from dataclasses import replace

import numpy as np
import pytest
import trimesh
from scenes import joined

from lucid_relic.errors import ParameterError, StepNotPossible
from lucid_relic.geometry.bvh import TriangleTree
from lucid_relic.inspection.mesh_check import check_mesh
from lucid_relic.mending.bridges import bridged
from lucid_relic.mending.rims import close_rims, find_rims
from lucid_relic.operations import get_operation
from lucid_relic.progress import silent
from lucid_relic.types import ScanState, Texture, TriangleMesh


def even(made: trimesh.Trimesh) -> TriangleMesh:
    return TriangleMesh(made.vertices.astype(np.float32), made.faces.astype(np.int32))


def ball(radius: float = 25.0, subdivisions: int = 5) -> TriangleMesh:
    return even(trimesh.creation.icosphere(subdivisions=subdivisions, radius=radius))


def torus() -> TriangleMesh:
    return even(trimesh.creation.torus(30.0, 10.0, major_sections=160, minor_sections=64))


def cut(mesh: TriangleMesh, *holes: tuple[np.ndarray, float]) -> TriangleMesh:
    """The mesh without the faces near some places."""
    keep = np.ones(len(mesh.faces), bool)
    centres = mesh.face_centres()
    for place, size in holes:
        keep &= np.linalg.norm(centres - place, axis=1) > size / 2
    return mesh.select_faces(keep)


def places_on(mesh: TriangleMesh, count: int, seed: int) -> np.ndarray:
    rng = np.random.default_rng(seed)
    return mesh.vertices[rng.choice(len(mesh.vertices), count, replace=False)].astype(np.float64)


def off_ball(p: np.ndarray) -> np.ndarray:
    return np.abs(np.linalg.norm(p, axis=1) - 25.0)


def off_torus(p: np.ndarray) -> np.ndarray:
    return np.abs(np.hypot(np.hypot(p[:, 0], p[:, 1]) - 30.0, p[:, 2]) - 10.0)


@pytest.mark.parametrize(("make", "off"), [(ball, off_ball), (torus, off_torus)], ids=["ball", "torus"])
@pytest.mark.parametrize("size", [3.0, 8.0, 12.0])
def test_patches_go_on_as_the_surface_bends(make, off, size: float) -> None:
    whole = make()
    for place in places_on(whole, 3, int(size)):
        holed = cut(whole, (place, size))
        rims = find_rims(holed)
        assert len(rims) == 1 and 0.7 * size < rims[0].size_mm < 1.6 * size
        closed, flat = close_rims(holed, rims)
        told = check_mesh(closed)
        assert told.watertight and told.vertex_manifold and told.self_intersections == 0 and flat == 0
        new = closed.vertices[len(holed.vertices) :].astype(np.float64)
        assert off(new).mean() < 0.01 * size, off(new).mean() / size
        normals = closed.face_normals()
        normals /= np.linalg.norm(normals, axis=1, keepdims=True)
        jump = jumps_over_rim(closed, normals)
        assert jump.mean() < 10.0, jump.mean()


def jumps_over_rim(mesh: TriangleMesh, normals: np.ndarray) -> np.ndarray:
    """Degrees between the normals on either side of the rims."""
    adjacent = trimesh.Trimesh(mesh.vertices, mesh.faces, process=False).face_adjacency
    rim = mesh.made_up[adjacent[:, 0]] != mesh.made_up[adjacent[:, 1]]
    cosine = np.einsum("nk,nk->n", normals[adjacent[rim, 0]], normals[adjacent[rim, 1]])
    return np.degrees(np.arccos(np.clip(cosine, -1, 1)))


def test_a_flat_patch_stays_in_its_plane_and_a_bent_rim_says_so() -> None:
    half = ball().select_faces(ball().face_centres()[:, 2] > 0)
    [rim] = find_rims(half)
    assert rim.bend < 0.02 and rim.area_mm2 == pytest.approx(np.pi * 25**2, rel=0.02)
    closed, _ = close_rims(half, [rim], flat=True)
    new = closed.vertices[len(half.vertices) :]
    assert np.abs(new[:, 2] - rim.place[2]).max() < 0.6 and check_mesh(closed).watertight
    saddle = cut(torus(), (np.array([40.0, 0, 0]), 16.0))
    assert find_rims(saddle)[0].bend > 0.02


def test_only_chosen_holes_are_closed_longest_first_and_touching_ones_apart() -> None:
    whole = ball()
    mesh = cut(whole, (np.array([25.0, 0, 0]), 10.0), (np.array([-25.0, 0, 0]), 4.0))
    rims = find_rims(mesh)
    assert [round(r.size_mm / 5) for r in rims] == [2, 1]
    closed, _ = close_rims(mesh, rims[1:])
    left = find_rims(closed)
    assert len(left) == 1 and left[0].length_mm == pytest.approx(rims[0].length_mm)
    assert closed.made_up.sum() == len(closed.faces) - len(mesh.faces)
    # Two holes that meet in one corner.
    corner = whole.faces[0]
    touching = np.flatnonzero((whole.faces == corner[0]).any(axis=1))
    a, b = touching[0], touching[len(touching) // 2]
    keep = np.ones(len(whole.faces), bool)
    keep[[a, b]] = False
    mesh = whole.select_faces(keep)
    rims = find_rims(mesh)
    assert [len(r.corners) for r in rims] == [3, 3]
    told = check_mesh(close_rims(mesh, rims)[0])
    assert told.watertight and told.vertex_manifold and told.volume_mm3 == pytest.approx(whole.volume_mm3(), rel=1e-5)


def test_many_small_holes_at_once_and_islands_within_one() -> None:
    whole = ball(40.0, 6)
    holes = [(p, 1.4) for p in places_on(whole, 300, 5)]
    mesh = cut(whole, *holes)
    rims = find_rims(mesh)
    assert len(rims) > 150
    closed, _ = close_rims(mesh, rims)
    assert check_mesh(closed, crossings=False).watertight
    island = joined(cut(ball(), (np.array([25.0, 0, 0]), 16.0)), even(trimesh.creation.icosphere(2, 1.0)))
    rims = find_rims(island)
    assert len(rims) == 1 and check_mesh(close_rims(island, rims)[0]).watertight


def test_colours_flow_in_and_a_texture_goes() -> None:
    whole = ball()
    colours = np.full((len(whole.vertices), 3), 40, np.uint8)
    colours[:, 0] = np.clip(128 + whole.vertices[:, 2] * 4, 0, 255)
    texture = Texture(np.zeros((4, 4, 3), np.uint8), np.zeros((len(whole.faces), 3, 2), np.float32), 0.9)
    holed = cut(replace(whole, colours=colours, texture=texture), (np.array([25.0, 0, 0]), 12.0))
    rims = find_rims(holed)
    closed, _ = close_rims(holed, rims)
    assert closed.texture is None
    new = slice(len(holed.vertices), None)
    assert np.abs(closed.colours[new, 0] - (128.0 + closed.vertices[new, 2] * 4)).max() < 6
    assert (closed.colours[new, 1] == 40).all()


def test_nothing_is_closed_where_nothing_is_open() -> None:
    whole = ball()
    assert find_rims(whole) == [] and close_rims(whole, []) == (whole, 0)
    assert find_rims(TriangleMesh(np.zeros((0, 3), np.float32), np.zeros((0, 3), np.int32))) == []


def test_as_a_step_holes_are_told_and_those_named_stay_open() -> None:
    mesh = cut(ball(), (np.array([25.0, 0, 0]), 10.0), (np.array([-25.0, 0, 0]), 4.0), (np.array([0, 25.0, 0]), 6.0))
    step = get_operation("patch_holes")
    run = lambda **values: step.run(ScanState((), mesh=mesh), step.parameters.from_dict(values), silent)  # noqa: E731
    state, report = run(leave=[[0, 24, 1]])
    assert (report["holes_closed"], report["holes_left"]) == (2, 1) and step.headline_of(report) == "closed 2, left 1"
    assert [h["closed"] for h in report["holes"]] == [True, False, True] and report["spanned_flat"] == 0
    [left] = find_rims(state.mesh)
    assert np.linalg.norm(left.place - [0, 25, 0]) < 1
    told = step.preview(ScanState((), mesh=mesh), step.parameters.from_dict({"leave": [[0, 24, 1]]}))
    patches, layer = state.mesh.select_faces(state.mesh.made_up), told.layers[0]
    assert layer.kind == "patch" and np.array_equal(layer.arrays["vertices"], patches.vertices)
    assert np.array_equal(layer.arrays["faces"], patches.faces) and told.figures["holes"] == 2
    assert told.figures["area_mm2"] == pytest.approx(patches.area_mm2(), abs=0.1)
    _, report = run(under_mm=5.0, how="flat")
    assert [h["closed"] for h in report["holes"]] == [False, False, True]
    with pytest.raises(StepNotPossible, match="is to stay open"):
        run(under_mm=0.5)
    with pytest.raises(StepNotPossible, match="no hole"):
        step.run(ScanState((), mesh=ball()), step.parameters(), silent)


def test_a_strip_across_a_large_hole_follows_the_surface_and_leaves_two_holes() -> None:
    whole = ball()
    holed = cut(replace(whole, colours=np.full((len(whole.vertices), 3), 90, np.uint8)), (np.array([0, 0, 25.0]), 24.0))
    spanned = bridged(holed, [((12.0, 0.0, 22.0), (-12.0, 0.0, 22.0))])
    told = check_mesh(spanned)
    assert told.holes == len(find_rims(spanned)) == 2 and told.edge_manifold and told.self_intersections == 0
    strip = spanned.select_faces(np.arange(len(spanned.faces)) >= len(holed.faces))
    assert off_ball(strip.vertices).max() < 0.02 * 24 and strip.made_up.all() and (spanned.colours == 90).all()
    step = get_operation("patch_holes")
    places = [[12, 0, 22], [-12, 0, 22]]
    state, report = step.run(ScanState((), mesh=holed), step.parameters.from_dict({"bridges": places}), silent)
    assert report["bridges"] == 1 and report["holes_closed"] == 2 and check_mesh(state.mesh).watertight
    assert off_ball(state.mesh.vertices).max() < 0.02 * 24


@pytest.mark.parametrize(
    ("places", "sentence"),
    [
        ([[12, 0, 22], [0, 0, -25]], "begins at one hole and ends at another"),
        ([[12, 0, 22], [12, 0, 22]], "lie at the same place"),
        ([[12, 0, 22]], "needs two places"),
    ],
)
def test_a_strip_that_cannot_be_laid_says_why(places, sentence: str) -> None:
    holed = cut(ball(), (np.array([0, 0, 25.0]), 24.0), (np.array([0, 0, -25.0]), 8.0))
    step = get_operation("patch_holes")
    with pytest.raises((StepNotPossible, ParameterError), match=sentence):
        step.run(ScanState((), mesh=holed), step.parameters.from_dict({"bridges": places}), silent)


def test_a_patch_that_would_cross_even_flat_is_domed_past_what_it_meets() -> None:
    """A spike stands through the middle of a hole, and ends just beyond it."""
    holed = cut(ball(), (np.array([0, 0, 25.0]), 14.0))
    spike = even(trimesh.creation.cone(radius=1.5, height=26.0, sections=24).subdivide().subdivide())
    pierced = joined(holed, TriangleMesh(spike.vertices - np.float32([0, 0, 1.5]), spike.faces))
    [rim] = find_rims(pierced)
    assert rim.place[2] < 24.5  # the top of the spike lies above the flat patch and under the ball
    flat, _ = close_rims(pierced, [rim], flat=True)
    assert TriangleTree(flat).crossings() == 0 and flat.vertices[len(pierced.vertices) :, 2].max() > 24.5
