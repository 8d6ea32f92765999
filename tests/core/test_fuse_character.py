"""Characters of fusion, thin walls, closing, gathered points: on scenes sphere-traced apart from the scanner."""

from dataclasses import replace

import numpy as np
import pytest
from manifold3d import Manifold, Mesh
from scenes import rendered_state, ring_of_views

from lucid_relic.demo.shapes import box, sphere
from lucid_relic.errors import ParameterError, StepNotPossible
from lucid_relic.fusion import tsdf
from lucid_relic.fusion.patches import find_patches
from lucid_relic.fusion.polygonise import polygonise_open
from lucid_relic.fusion.tsdf import fuse_volume
from lucid_relic.geometry.bvh import TriangleTree
from lucid_relic.geometry.topology import edge_table
from lucid_relic.inspection.mesh_check import check_mesh
from lucid_relic.io.capture_folder import CaptureFolder
from lucid_relic.mending.pieces import keep_largest, keep_over
from lucid_relic.operations import get_operation
from lucid_relic.progress import silent
from lucid_relic.types import Camera, ScanState, TriangleMesh

CAMERA = Camera.centred(200, 160, 420.0)


def run(state: ScanState, name: str, **parameters) -> tuple[ScanState, dict]:
    operation = get_operation(name)
    return operation.run(state, operation.parameters(**parameters), silent)


def cube_field(p: np.ndarray) -> np.ndarray:
    q = np.abs(p) - 10.0
    return np.linalg.norm(np.maximum(q, 0), axis=-1) + np.minimum(q.max(axis=-1), 0)


@pytest.fixture(scope="module")
def cube() -> ScanState:
    views = ring_of_views(10, 120.0, (-35.0, 35.0), (0, 0, 0))
    return rendered_state(cube_field, views, CAMERA, noise_mm=0.02)


def edge_radius(mesh: TriangleMesh) -> float:
    """Radius (mm) of the round edge of a cube of 20 mm: its gap to the sharp edge is r·(√2 - 1)."""
    t = np.linspace(-6, 6, 120)
    edges = [
        np.stack(np.broadcast_arrays(*[t if k == axis else signs[k] * 10.0 for k in range(3)]), axis=1)
        for axis in range(3)
        for signs in [np.insert([a, b], axis, 0) for a in (-1, 1) for b in (-1, 1)]
    ]
    gap = TriangleTree(mesh).closest(np.concatenate(edges).astype(np.float64))[0]
    return float(gap.mean() / (np.sqrt(2) - 1))


@pytest.mark.parametrize(("character", "voxels"), [("even", 3.0), ("crisp", 1.5)])
def test_edges_of_a_cube_stay_as_sharp_as_promised(cube: ScanState, character: str, voxels: float) -> None:
    volume = fuse_volume(cube, 0.25, silent, character)
    mesh, _ = keep_largest(polygonise_open(volume))
    assert edge_radius(mesh) < voxels * 0.25
    faces = np.abs(np.abs(mesh.vertices).max(axis=1) - 10)
    assert np.median(faces) < 0.02


def test_crisp_is_sharper_than_even_and_draft_is_coarser(cube: ScanState) -> None:
    radius = {}
    for character in ("even", "crisp"):
        mesh, _ = keep_largest(polygonise_open(fuse_volume(cube, 0.25, silent, character)))
        radius[character] = edge_radius(mesh)
    assert radius["crisp"] < radius["even"]
    draft, fine = run(cube, "fuse", character="draft")[1], run(cube, "fuse")[1]
    assert draft["voxel_mm"] > 2 * fine["voxel_mm"] and draft["triangles"] < 0.3 * fine["triangles"]


def test_a_thin_wall_survives_from_both_sides() -> None:
    # 1.2 mm thick, fused with 0.5 mm voxels: less than the reach behind either side.
    field = lambda p: box(p, (0, 0, 0), (12, 0.6, 12), 0.0)  # noqa: E731
    state = rendered_state(field, ring_of_views(12, 120.0, (-25.0, 25.0), (0, 0, 0)), CAMERA)
    mesh, _ = keep_largest(polygonise_open(fuse_volume(state, 0.5, silent)))
    middle = mesh.vertices[(np.abs(mesh.vertices[:, [0, 2]]) < 9).all(axis=1)]
    assert (middle[:, 1] > 0).any() and (middle[:, 1] < 0).any()
    assert np.abs(np.abs(middle[:, 1]) - 0.6).mean() < 0.06


def test_memory_is_forecast_and_refused_with_a_size_that_fits(cube: ScanState, monkeypatch) -> None:
    assert run(cube, "fuse", voxel_mm=0.5)[1]["memory_forecast_gb"] > 0
    monkeypatch.setattr(tsdf, "available_bytes", lambda: 4_000_000)
    with pytest.raises(StepNotPossible, match=r"Choose 0\.\d+ mm or more|Choose \d"):
        fuse_volume(cube, 0.1, silent)


def torus_field(p: np.ndarray) -> np.ndarray:
    return np.hypot(np.hypot(p[..., 0], p[..., 1]) - 14.0, p[..., 2]) - 5.0


def test_a_fused_torus_has_genus_one_and_its_volume() -> None:
    # Topology and Pappus: Euler number 0 (genus 1), volume 2π²Rr².
    state = rendered_state(torus_field, ring_of_views(12, 120.0, (-60.0, -15.0, 30.0, 75.0), (0, 0, 0)), CAMERA)
    state, report = run(run(state, "fuse", voxel_mm=0.6)[0], "close")
    mesh = state.mesh
    edges, _, _ = edge_table(mesh.faces)
    assert len(mesh.vertices) - len(edges) + len(mesh.faces) == 0
    assert mesh.volume_mm3() == pytest.approx(2 * np.pi**2 * 14 * 25, rel=0.01)
    assert report["made_up_area_fraction"] < 0.02
    solid = Manifold(Mesh(mesh.vertices, mesh.faces.astype(np.uint32)))
    assert solid.genus() == 1 and solid.volume() == pytest.approx(mesh.volume_mm3(), rel=1e-4)


@pytest.fixture(scope="module")
def capless() -> ScanState:
    """A ball of 15 mm radius fused from views all around but from below, where a cap is missing."""
    field = lambda p: sphere(p, (0, 0, 0), 15)  # noqa: E731
    state = rendered_state(field, ring_of_views(8, 120.0, (0.0, 40.0, 80.0), (0, 0, 0)), CAMERA)
    return run(state, "fuse", voxel_mm=0.6)[0]


def test_closing_follows_the_curvature_around_a_hole(capless: ScanState) -> None:
    off = {}
    for follow in (False, True):
        mesh = run(capless, "close", follow_curvature=follow)[0].mesh
        made = mesh.vertices[np.unique(mesh.faces[mesh.made_up])]
        assert check_mesh(mesh).watertight and (made[:, 2] < -9).mean() > 0.9
        off[follow] = np.abs(np.linalg.norm(made, axis=1) - 15).mean()
    assert off[True] < 0.5 * off[False]


def test_holes_close_up_to_a_size(capless: ScanState) -> None:
    hole = find_patches(run(capless, "close")[0].mesh).size_mm.max()
    left, report = run(capless, "close", holes="up_to", up_to_mm=0.5 * hole)
    assert report["holes_left"] == 1 and check_mesh(left.mesh).holes == 1
    assert check_mesh(left.mesh).vertex_manifold
    closed, report = run(capless, "close", holes="up_to", up_to_mm=1.1 * hole)
    assert report["holes_left"] == 0 and check_mesh(closed.mesh).watertight


def fingers_field(p: np.ndarray) -> np.ndarray:
    left, right = box(p, (-6, 0, 10), (3, 4, 12), 1), box(p, (6, 0, 10), (3, 4, 12), 1)
    return np.minimum(np.minimum(left, right), box(p, (0, 0, -4), (12, 5, 3), 1))


def test_closing_does_not_bridge_fingers() -> None:
    state = rendered_state(fingers_field, ring_of_views(8, 130.0, (15.0, 55.0), (0, 0, 6)), CAMERA)
    mesh = run(run(state, "fuse", voxel_mm=0.9)[0], "close")[0].mesh
    between = (np.abs(mesh.vertices[:, 0]) < 2.0) & (mesh.vertices[:, 2] > 3)
    assert check_mesh(mesh).watertight and not between.any()


def test_pieces_over_a_size_stay() -> None:
    field = lambda p: np.minimum(sphere(p, (0, 0, 0), 10), sphere(p, (18, 0, 0), 3))  # noqa: E731
    state = rendered_state(field, ring_of_views(8, 120.0, (-40.0, 0.0, 40.0), (4, 0, 0)), CAMERA)
    state = run(run(state, "fuse", voxel_mm=0.6)[0], "close")[0]
    assert check_mesh(run(state, "largest_piece")[0].mesh).components == 1
    assert check_mesh(run(state, "largest_piece", over_mm=8.0)[0].mesh).components == 2
    assert not len(keep_over(state.mesh, 500.0)[0].faces)
    with pytest.raises(StepNotPossible, match="Choose a smaller size"):
        run(state, "largest_piece", over_mm=500.0)


def test_gathered_points_are_even_and_true(cube: ScanState) -> None:
    state, report = run(cube, "gather_points", spacing_mm=0.5)
    points = state.points
    assert report["points"] == len(points) > 5000
    off = np.abs(cube_field(points.points.astype(float)))
    assert off.mean() < 0.02 and np.percentile(off, 95) < 0.08
    flat = np.abs(points.points).max(axis=1) > 9.9
    axis = np.abs(points.points).argmax(axis=1)
    inner = flat & (np.sort(np.abs(points.points), axis=1)[:, 1] < 8)
    assert (np.abs(points.normals[inner, axis[inner]]) > 0.98).mean() > 0.97
    fewer = run(cube, "gather_points", spacing_mm=0.5, least_frames=6)[1]["points"]
    assert fewer < report["points"]


def test_a_noisier_pass_counts_for_less(cube: ScanState) -> None:
    good = cube.passes[0]
    shifted = np.array(good.frame_poses)
    shifted[:, 2, 3] += 0.3
    bad = replace(good, title="off", frame_poses=shifted, noise_mm=0.2)
    top = {}
    for name, state in (("good", ScanState((good,))), ("both", ScanState((good, bad)))):
        mesh, _ = keep_largest(polygonise_open(fuse_volume(state, 0.5, silent)))
        flat = mesh.vertices[(np.abs(mesh.vertices[:, :2]) < 7).all(axis=1) & (mesh.vertices[:, 2] > 0)]
        top[name] = float(flat[:, 2].mean())
    assert abs(top["both"] - top["good"]) < 0.06


def test_how_many_frames_are_fused_at_a_time_changes_nothing(captures, monkeypatch) -> None:
    state = ScanState(tuple(replace(CaptureFolder(f).as_pass(), placed=True) for f in captures[:1]))
    together = fuse_volume(state, 2.0, silent)
    monkeypatch.setattr(tsdf, "BATCH", 1)
    alone = fuse_volume(state, 2.0, silent)
    monkeypatch.setattr(tsdf, "BATCH", 12)
    monkeypatch.setattr(tsdf, "BATCH_BYTES", 1)
    small = fuse_volume(state, 2.0, silent)
    assert (together.weight > 0).sum() > 10_000 and np.ptp(together.colour) > 50
    for other in (alone, small):
        assert np.array_equal(other.coords, together.coords)
        # Between batches the facing of a voxel is rounded to a byte, so that a few voxels near edges may differ.
        assert (np.abs(other.distance - together.distance) < 1e-5).mean() > 0.999
        assert (np.abs(other.colour.astype(int) - together.colour) <= 1).mean() > 0.999


def test_an_unknown_character_is_refused() -> None:
    with pytest.raises(ParameterError, match="draft, even, crisp"):
        get_operation("fuse").parameters.from_dict({"character": "smooth"})
