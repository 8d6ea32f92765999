"""Meshes that come in broken are mended, artefacts are healed, a foot is cut flat."""

from dataclasses import replace

import numpy as np
import pytest
import trimesh
from damage import KINDS, damaged
from scenes import joined
from scipy.spatial import cKDTree

from lucid_relic.errors import StepNotPossible
from lucid_relic.geometry.bvh import TriangleTree
from lucid_relic.geometry.subdivide import subdivided
from lucid_relic.inspection.mesh_check import check_mesh
from lucid_relic.mending.heal import heal
from lucid_relic.mending.repair import repair
from lucid_relic.operations import get_operation
from lucid_relic.progress import silent
from lucid_relic.types import BallStroke, Marks, ScanState, Texture, TriangleMesh


def even(made: trimesh.Trimesh) -> TriangleMesh:
    return TriangleMesh(made.vertices.astype(np.float32), made.faces.astype(np.int32))


BALL = even(trimesh.creation.icosphere(subdivisions=4, radius=25.0))
TORUS = even(trimesh.creation.torus(30.0, 10.0, major_sections=96, minor_sections=40))
BOX = even(trimesh.creation.box((40, 30, 20)).subdivide().subdivide().subdivide())
WHOLE = (BALL, TORUS, BOX)


def is_sound(mesh: TriangleMesh) -> bool:
    told = check_mesh(mesh)
    return bool(
        told.watertight and told.edge_manifold and told.vertex_manifold
        and told.self_intersections == 0 and told.volume_mm3 > 0
    )  # fmt: skip


def share_beyond(whole: TriangleMesh, broken: TriangleMesh, mended: TriangleMesh, places: np.ndarray) -> float:
    """Share of the area of either surface that the other lacks, away from the damage."""
    side = float(np.sqrt(2 * whole.area_mm2() / len(whole.faces)))
    worst = 0.0
    finite = np.isfinite(broken.vertices[broken.faces]).all(axis=(1, 2))
    sound = TriangleMesh(np.nan_to_num(broken.vertices), broken.faces[finite])
    for mesh, others in ((whole, [mended]), (mended, [whole, sound])):
        middles = mesh.face_centres().astype(np.float64)
        off = np.min([TriangleTree(other).closest(middles)[0] for other in others], axis=0) > 0.05 * side
        if len(places):
            off &= cKDTree(places).query(middles)[0] > 2.5 * side
        area = np.linalg.norm(mesh.face_normals(), axis=1)
        worst = max(worst, float(area[off].sum() / area.sum()))
    return worst


@pytest.mark.parametrize("kind", KINDS, ids=lambda k: k.__name__)
def test_every_kind_of_fault_is_mended_and_told(kind) -> None:
    broken, _ = kind(BALL, np.random.default_rng(3))
    finite = TriangleMesh(np.nan_to_num(broken.vertices), broken.faces)
    assert not is_sound(finite) or not np.isfinite(broken.vertices).all() or kind.__name__ == "flat"
    work = repair(broken)
    assert work.sound and is_sound(work.mesh) and work.done
    assert work.mesh.volume_mm3() == pytest.approx(BALL.volume_mm3(), rel=0.01)


@pytest.mark.parametrize("seed", range(12))
def test_damaged_meshes_end_closed_and_manifold_and_little_else_is_changed(seed: int) -> None:
    rng = np.random.default_rng(seed)
    whole = WHOLE[seed % len(WHOLE)]
    broken, places, kinds = damaged(whole, rng, int(rng.integers(2, 9)))
    work = repair(broken)
    assert work.sound and is_sound(work.mesh), (kinds, work.done)
    assert share_beyond(whole, broken, work.mesh, places) <= 0.01


def test_what_is_sound_stays_as_it_is() -> None:
    work = repair(TORUS)
    assert work.sound and work.done == {} and np.array_equal(work.mesh.vertices[work.mesh.faces], TORUS.corners)
    hollow = joined(BALL, TriangleMesh(BALL.vertices * 0.5, BALL.faces[:, ::-1].copy()))
    kept = repair(hollow)
    assert kept.done == {} and kept.mesh.volume_mm3() == pytest.approx(hollow.volume_mm3())
    turned = repair(TriangleMesh(BALL.vertices, BALL.faces[:, ::-1].copy()))
    assert turned.done == {"bodies turned outwards": 1} and is_sound(turned.mesh)
    nothing = TriangleMesh(np.full((3, 3), np.nan, np.float32), np.array([[0, 1, 2]], np.int32))
    with pytest.raises(StepNotPossible, match="Nothing sound is left"):
        repair(nothing)


def test_repair_as_a_step_lists_what_was_done() -> None:
    step = get_operation("repair")
    away = np.linalg.norm(BALL.face_centres() - [0, 0, 25.0], axis=1) > 3
    broken = TriangleMesh(BALL.vertices, np.concatenate([BALL.faces[away], BALL.faces[np.flatnonzero(away)[:2]]]))
    state, report = step.run(ScanState((), mesh=broken), step.parameters(), silent)
    assert report["sound"] and {d["what"]: d["count"] for d in report["done"]} == {
        "doubled triangles taken out": 2,
        "holes closed": 1,
    }
    assert state.mesh.made_up.sum() >= 6 and is_sound(state.mesh)
    again, told = step.run(state, step.parameters(), silent)
    assert step.headline_of(told) == "nothing to mend" and len(again.mesh.faces) == len(state.mesh.faces)


def bumped() -> TriangleMesh:
    """The ball with a bump of 3 mm on its top, coloured: the bump red, the rest green."""
    vertices = BALL.vertices.copy()
    top = np.linalg.norm(vertices - [0, 0, 25.0], axis=1) < 4
    vertices[top] *= 1.12
    colours = np.where(top[:, None], np.uint8([200, 20, 20]), np.uint8([20, 160, 60]))
    return TriangleMesh(vertices, BALL.faces, colours)


def test_a_marked_bump_is_healed_with_its_colour() -> None:
    mesh = replace(bumped(), texture=Texture(np.zeros((4, 4, 3), np.uint8), np.zeros((len(BALL.faces), 3, 2)), 1.0))
    step = get_operation("heal")
    marks = Marks((BallStroke(((0.0, 0.0, 26.0),), 7.5),))
    state, report = step.run(ScanState((), mesh=mesh), step.parameters(marks=marks), silent)
    healed = state.mesh
    assert report["patches"] == 1 and is_sound(healed) and healed.texture is None
    # A bump of 3 mm is gone: all lies on the ball again to a hundredth of the hole's size.
    assert np.abs(np.linalg.norm(healed.vertices, axis=1) - 25.0).max() < 0.15
    assert healed.colours[:, 0].max() < 40 and healed.made_up.any() and not healed.made_up.all()
    assert step.headline_of(report).startswith(f"{report['area_mm2']:.1f} mm²")


def test_healing_closes_what_it_opened_and_nothing_else() -> None:
    keep = BALL.face_centres()[:, 2] > -20
    holed = BALL.select_faces(keep)
    chosen = np.linalg.norm(holed.face_centres() - [0, 0, 25.0], axis=1) < 5
    assert check_mesh(heal(holed, chosen).mesh).holes == 1
    with pytest.raises(StepNotPossible, match="More than half"):
        heal(holed, np.ones(len(holed.faces), bool))
    apart = joined(BALL, TriangleMesh(BALL.vertices * 0.2 + np.float32([60, 0, 0]), BALL.faces))
    with pytest.raises(StepNotPossible, match="a piece of its own"):
        heal(apart, apart.face_centres()[:, 0] > 40)
    step = get_operation("heal")
    with pytest.raises(StepNotPossible, match="Nothing of the mesh is marked"):
        step.run(ScanState((), mesh=holed), step.parameters(), silent)


@pytest.mark.parametrize("coloured", [True, False])
def test_a_flat_foot_takes_off_the_cap_of_the_formula(coloured: bool) -> None:
    mesh = bumped() if coloured else replace(BALL, made_up=np.arange(len(BALL.faces)) < 7)
    step = get_operation("flat_foot")
    state, report = step.run(ScanState((), mesh=mesh), step.parameters(cut_mm=2.0), silent)
    footed = state.mesh
    assert is_sound(footed) and footed.vertices[:, 2].min() == pytest.approx(-23.0, abs=1e-4)
    # A cap of height h of a ball: area of its base π h (2r - h), volume π h² (3r - h) / 3 (Euclid's, in any table).
    assert report["foot_mm2"] == pytest.approx(np.pi * 2 * 48, rel=0.01)
    assert report["cut_off_mm3"] == pytest.approx(np.pi * 4 * 73 / 3, rel=0.02)
    assert footed.made_up.sum() < len(footed.faces) / 10 and footed.made_up.any()
    if coloured:
        low = footed.vertices[:, 2] < 0
        assert np.abs(footed.colours[low].astype(int) - [20, 160, 60]).max() <= 1
    for params, sentence in (
        ({"plane": [0, 0, 1, 90]}, "Nothing of the object"),
        ({"plane": [0, 0, 1, -90]}, "not cut"),
    ):
        with pytest.raises(StepNotPossible, match=sentence):
            step.run(state, step.parameters.from_dict(params), silent)
    with pytest.raises(StepNotPossible, match="Only a closed surface"):
        step.run(ScanState((), mesh=BALL.select_faces(np.arange(len(BALL.faces)) > 5)), step.parameters(), silent)


def test_splitting_some_triangles_leaves_no_crack() -> None:
    chosen = TORUS.face_centres()[:, 0] > 20
    mesh, born = subdivided(replace(TORUS, made_up=chosen), chosen)
    assert check_mesh(mesh, crossings=False).watertight and len(born) == len(mesh.faces)
    assert np.bincount(born)[chosen].min() == 4 and np.bincount(born).max() == 4
    assert mesh.area_mm2() == pytest.approx(TORUS.area_mm2(), rel=1e-6) and np.array_equal(mesh.made_up, chosen[born])
    assert mesh.volume_mm3() == pytest.approx(TORUS.volume_mm3(), rel=1e-6)
