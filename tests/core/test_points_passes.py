"""Passes of points through the operations: placed, settled, cleaned, coloured, measured anew, used as a surface."""

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from scenes import cloud_pass, grid_plane, joined, knot_model, part_scan, uv_sphere
from scipy.spatial.transform import Rotation

from lucid_relic.alignment.place_passes import place_passes
from lucid_relic.errors import StepNotPossible
from lucid_relic.geometry.looks import look, look_numbers
from lucid_relic.geometry.normals import with_normals
from lucid_relic.geometry.pass_points import pass_points
from lucid_relic.geometry.rigid import difference, inverse
from lucid_relic.inspection.findings import findings
from lucid_relic.inspection.summary import summarise_state
from lucid_relic.io.array_store import ArrayStore
from lucid_relic.io.capture_folder import CaptureFolder
from lucid_relic.io.points_folder import PointsFolder
from lucid_relic.io.snapshots import load_state, save_state
from lucid_relic.operations import get_operation
from lucid_relic.operations.fuse.own_voxel import own_voxel
from lucid_relic.operations.recipe import built_in, run_recipe
from lucid_relic.progress import silent
from lucid_relic.selection.marked import Marking, marked_pixels
from lucid_relic.types import BallStroke, Marks, PassState, PointCloud, ScanState, TriangleMesh
from lucid_relic.view.pass_view import pass_view

WAYS = ((1.0, 0.0, 0.0), (-0.5, 0.87, 0.0), (-0.5, -0.87, 0.0), (0.0, 0.0, 1.0))
NOISE_MM = 0.05


@pytest.fixture(scope="module")
def lump() -> TriangleMesh:
    return knot_model(0.8).mesh


def test_a_mesh_that_came_in_is_fused_no_finer_than_its_faces_tell(tmp_path: Path) -> None:
    fine, coarse = (cloud_pass(uv_sphere(20.0, n, 2 * n), tmp_path / str(n)) for n in (160, 24))
    voxel, across = (own_voxel(ScanState((replace(p, placed=True),)), "even") for p in (fine, coarse))
    corners = uv_sphere(20.0, 160, 320).corners
    side = np.median(np.linalg.norm(corners - np.roll(corners, 1, axis=1), axis=2))
    assert voxel == pytest.approx(side / 2, abs=1e-3) and fine.cloud.spacing_mm < voxel
    # However wide flat faces are, there are three hundred voxels across the body.
    size = float(np.linalg.norm([40.0, 40.0, 40.0]))
    assert across == pytest.approx(0.5 * size / 150, rel=0.01) and across > coarse.cloud.spacing_mm


def moved_at_random(rng: np.random.Generator) -> np.ndarray:
    motion = np.eye(4)
    motion[:3, :3] = Rotation.random(random_state=int(rng.integers(1 << 30))).as_matrix()
    motion[:3, 3] = rng.uniform(-60, 60, 3)
    return motion


def parts(lump: TriangleMesh, folder: Path, bare: bool) -> tuple[list[PassState], list[np.ndarray]]:
    """Four part scans of the lump, each moved at random and noisy, and the motion lump → scan of each."""
    rng = np.random.default_rng(9)
    passes, motions = [], []
    for k, way in enumerate(WAYS):
        cut, motion = part_scan(lump, way), moved_at_random(rng)
        noisy = cut.vertices + rng.normal(0, NOISE_MM, cut.vertices.shape)
        scan = replace(cut, vertices=noisy.astype(np.float32)).transformed(motion)
        passes.append(cloud_pass(PointCloud(scan.vertices) if bare else scan, folder / f"part {k}"))
        motions.append(motion)
    return [replace(passes[0], placed=True), *passes[1:]], motions


def run(state: ScanState, name: str, **parameters: object) -> tuple[ScanState, dict]:
    operation = get_operation(name)
    return operation.run(state, operation.parameters.from_dict(parameters), silent)


def worst_off(state: ScanState, motions: list[np.ndarray]) -> tuple[float, float]:
    T_object_lump = state.passes[0].T_object_pass @ motions[0]
    off = [difference(T_object_lump, p.T_object_pass @ m) for p, m in zip(state.passes, motions, strict=True)]
    return max(o[0] for o in off), max(o[1] for o in off)


@pytest.mark.parametrize("bare", [False, True])
def test_part_scans_are_placed_settled_and_fused(lump: TriangleMesh, tmp_path: Path, bare: bool) -> None:
    passes, motions = parts(lump, tmp_path, bare)
    state, report = run(ScanState(tuple(passes)), "find_fit")
    assert report["not_placed"] == []
    before = worst_off(state, motions)
    state, settled = run(state, "settle")
    after = worst_off(state, motions)
    assert after[0] < 0.05 and after[1] < 0.06 and after[0] <= before[0] + 0.01
    assert settled["rms_mm"] < settled["rms_before_mm"] * 1.05 and len(settled["clouds"]) == 4
    if bare:
        for scan, motion in zip(state.passes, motions, strict=True):
            back = scan.cloud.cloud.transformed(inverse(motion))
            outward = np.einsum("ij,ij->i", back.normals, back.points - lump.vertices.mean(axis=0))
            assert (outward > 0).mean() > 0.8


def test_a_scan_that_is_turned_inside_out_is_found_and_turned_back(lump: TriangleMesh, tmp_path: Path) -> None:
    passes, _ = parts(lump, tmp_path, bare=True)
    first, turned = passes[0], replace(passes[3], cloud=passes[3].cloud.with_other_side_out())
    clouds = [pass_points(p, 1.2 * p.cloud.spacing_mm) for p in (first, turned)]
    placed, _ = place_passes((first, turned), clouds, silent)
    assert placed[1].placed and not placed[1].cloud.turned_over
    certain = tuple(replace(p, cloud=replace(p.cloud, normals_from="file")) for p in (first, turned))
    placed, tried = place_passes(certain, clouds, silent)
    assert not placed[1].placed and not tried[0][2].accepted


def test_scans_that_share_a_frame_are_placed_without_a_search(lump: TriangleMesh, tmp_path: Path) -> None:
    move = moved_at_random(np.random.default_rng(2))
    passes = [
        cloud_pass(part_scan(lump, way).transformed(move), tmp_path / f"{k}", shared_frame="one file")
        for k, way in enumerate(WAYS[:2])
    ]
    state, report = run(ScanState((replace(passes[0], placed=True), passes[1])), "find_fit")
    assert report["fits"] == [] and report["not_placed"] == []
    assert np.allclose(state.passes[0].T_object_pass, state.passes[1].T_object_pass)


def test_the_print_recipe_runs_over_points_without_colour(lump: TriangleMesh, tmp_path: Path) -> None:
    scan = replace(cloud_pass(lump, tmp_path / "whole"), placed=True)
    told: list[tuple[str, dict]] = []
    recipe = built_in("print").with_parameter("fuse", "voxel_mm", 1.2)
    state = run_recipe(ScanState((scan,)), recipe, silent, lambda step, s, r, t: told.append((step.operation, dict(r))))
    reports = dict(told)
    assert reports["stand_cut"]["passes"][0]["by"] == "none"
    assert reports["lay_colour"]["texture"] == 0 and "no colour" in reports["lay_colour"]["why"]
    assert state.mesh.volume_mm3() == pytest.approx(lump.volume_mm3(), rel=0.01)
    with pytest.raises(StepNotPossible, match="no colour"):
        run(state, "lay_colour", need_colour=True)


def test_points_and_frames_settle_fuse_and_are_gathered_together(lump: TriangleMesh, captures, tmp_path: Path) -> None:
    frames = replace(CaptureFolder(captures[0]).as_pass(), placed=True)
    state, _ = run(ScanState((frames,)), "place_frames")
    state, _ = run(state, "stand_cut")
    T_object_lump = state.passes[0].T_object_pass @ inverse(frames.frame_poses[0]) @ captures[2].truth_poses()[0]
    nudge = np.eye(4)
    nudge[:3, :3] = Rotation.from_rotvec([0.01, -0.008, 0.012]).as_matrix()
    nudge[:3, 3] = [0.4, -0.3, 0.2]
    detail = cloud_pass(part_scan(lump, WAYS[1]), tmp_path / "detail")
    plate = captures[2].T_plate_model
    state = replace(state, passes=(*state.passes, replace(detail, placed=True, T_object_pass=np.eye(4))))
    placed, _ = run(replace(state, passes=(state.passes[0], replace(state.passes[1], placed=False))), "find_fit")
    assert placed.passes[1].placed and len(plate) == 4 and T_object_lump.shape == (4, 4)
    knocked = replace(placed.passes[1], T_object_pass=nudge @ placed.passes[1].T_object_pass)
    settled, report = run(placed.with_pass(1, knocked), "settle")
    assert report["frames"] == 12 and report["clouds"][0]["after_mm"] < 0.5 * report["clouds"][0]["before_mm"]
    turned, shifted = difference(settled.passes[1].T_object_pass, placed.passes[1].T_object_pass)
    assert turned < 0.3 and shifted < 0.4  # the nudge was 1° and 0.5 mm
    trimmed, figures = run(settled, "trim_fuzz")
    assert figures["points_after"] > 0.9 * figures["points_before"]
    fused, _ = run(trimmed, "fuse", voxel_mm=1.2)
    assert fused.mesh.area_mm2() > 0.6 * lump.area_mm2()
    gathered, _ = run(trimmed, "gather_points", spacing_mm=1.5)
    alone, _ = run(replace(trimmed, passes=trimmed.passes[:1]), "gather_points", spacing_mm=1.5)
    assert len(gathered.points) > len(alone.points)


def test_a_table_under_points_is_cut_and_a_flat_foot_is_not(tmp_path: Path) -> None:
    block = joined(grid_plane(60, 60, 1.0), uv_sphere(8.0).transformed(shifted(30, 30, 10)))
    state, report = run(ScanState((replace(cloud_pass(block, tmp_path / "a"), placed=True),)), "stand_cut")
    assert report["passes"][0]["by"] == "found"
    kept = state.passes[0].cloud.cloud.select(state.passes[0].kept_points())
    assert kept.points[:, 2].min() > 0 and len(kept) > 0.9 * len(uv_sphere(8.0).vertices)
    half = uv_sphere(20.0)
    half = half.select_faces(half.face_centres()[:, 2] > 0)
    foot = grid_plane(40, 40, 1.0).transformed(shifted(-20, -20, 0))
    foot = foot.select_faces(np.linalg.norm(foot.face_centres()[:, :2], axis=1) < 19.5)
    dome = joined(half, replace(foot, faces=foot.faces[:, ::-1].copy()))
    _, report = run(ScanState((replace(cloud_pass(dome, tmp_path / "b"), placed=True),)), "stand_cut")
    assert report["passes"][0]["by"] == "none"


def shifted(x: float, y: float, z: float) -> np.ndarray:
    motion = np.eye(4)
    motion[:3, 3] = x, y, z
    return motion


def test_stray_points_and_those_turned_the_wrong_way_go_with_the_fuzz(tmp_path: Path) -> None:
    ball = uv_sphere(15.0)
    rng = np.random.default_rng(6)
    stray = rng.uniform(-40, 40, (60, 3)).astype(np.float32)
    stray = stray[np.linalg.norm(stray, axis=1) > 19]
    normals = ball.vertex_normals()
    wrong = rng.permutation(len(normals))[:200]
    normals[wrong] *= -1
    cloud = PointCloud(
        np.concatenate([ball.vertices, stray]),
        np.concatenate([normals, stray / np.linalg.norm(stray, axis=1, keepdims=True)]).astype(np.float32),
    )
    state, report = run(ScanState((replace(cloud_pass(cloud, tmp_path / "p"), placed=True),)), "trim_fuzz")
    kept = state.passes[0].kept_points()
    assert not kept[len(ball.vertices) :].any() and not kept[wrong].any()
    assert kept[: len(ball.vertices)].sum() > 0.98 * (len(ball.vertices) - len(wrong))
    assert report["points_before"] - report["points_after"] == (~kept).sum()


def test_free_space_before_a_known_scanner_takes_points_away(tmp_path: Path) -> None:
    """A wall seen from a known place; dust of another scan hangs before it."""
    wall = grid_plane(60, 60, 0.5)
    front = cloud_pass(PointCloud(wall.vertices), tmp_path / "front", scanner=np.array([30.0, 30.0, 200.0]))
    assert front.cloud.normals_from == "scanner" and (front.cloud.cloud.normals[:, 2] > 0.9).all()
    assert len(look_numbers(front)) == 1 and np.median(look(front, 0).depth[look(front, 0).depth > 0]) > 195
    dust = grid_plane(20, 20, 0.5).transformed(shifted(20, 20, 12))
    other = cloud_pass(joined(wall, dust), tmp_path / "other")
    state, _ = run(ScanState((replace(front, placed=True), replace(other, placed=True))), "trim_fuzz")
    kept = state.passes[1].kept_points()
    height = other.cloud.cloud.points[:, 2]
    assert kept[height > 6].mean() < 0.02 and kept[height < 6].mean() > 0.97


def test_colour_of_points_and_textures_is_laid(tmp_path: Path) -> None:
    ball = uv_sphere(15.0, 90, 180)
    red = np.where(ball.vertices[:, 2:] > 0, [[200, 20, 20]], [[20, 180, 20]]).astype(np.uint8)
    scan = replace(cloud_pass(replace(ball, colours=red), tmp_path / "p"), placed=True)
    state, _ = run(ScanState((scan,)), "fuse", voxel_mm=1.0)
    state, report = run(state, "lay_colour", size=256)
    assert report["texture"] == 256 and report["seen_share"] > 0.99
    top = state.mesh.vertices[:, 2] > 2
    assert np.abs(state.mesh.colours[top].astype(int) - [200, 20, 20]).max() < 3
    textured = cloud_pass(state.mesh, tmp_path / "q")
    again, _ = run(ScanState((replace(textured, placed=True),)), "fuse", voxel_mm=1.0)
    again, report = run(again, "lay_colour", size=256)
    bottom = again.mesh.vertices[:, 2] < -2
    assert report["seen_share"] > 0.99
    assert np.percentile(np.abs(again.mesh.colours[bottom].astype(int) - [20, 180, 20]), 99) < 8


def test_a_unit_is_set_for_a_file_and_all_that_share_its_frame(tmp_path: Path) -> None:
    scans = [
        cloud_pass(uv_sphere(0.03), tmp_path / f"{k}", unit="", shared_frame="" if k == 2 else "f") for k in range(3)
    ]
    assert [s.cloud.unit for s in scans] == ["m"] * 3 and scans[0].cloud.unit_from == "size"
    state = ScanState(tuple(replace(s, placed=True) for s in scans))
    asked = [f for f in findings(summarise_state(state)) if f["kind"] == "guessed unit"]
    assert len(asked) == 3 and asked[0]["operation"] == "set_unit" and "metres" in asked[0]["title"]
    state, report = run(state, "set_unit", unit="in", passes=["1"])
    assert [p["pass"] for p in report["passes"]] == ["0", "1"]
    assert report["passes"][0]["size_mm"] == pytest.approx(0.06 * 25.4, rel=1e-3)
    assert [p.cloud.unit for p in state.passes] == ["in", "in", "m"]
    assert state.passes[0].cloud.spacing_mm == pytest.approx(scans[0].cloud.spacing_mm * 0.0254)
    assert [f["figure"] for f in findings(summarise_state(state)) if f["kind"] == "guessed unit"] == ["60 mm"]
    kept = load_state(
        save_state(state, ArrayStore(tmp_path / "s")),
        ArrayStore(tmp_path / "s"),
        lambda key: PointsFolder(key).as_pass(),
    )
    assert [p.cloud.unit for p in kept.passes] == ["in", "in", "m"]
    assert np.allclose(kept.passes[0].cloud.cloud.points, state.passes[0].cloud.cloud.points)


def test_what_is_changed_of_a_pass_of_points_is_kept(tmp_path: Path) -> None:
    scan = replace(cloud_pass(uv_sphere(10.0), tmp_path / "p"), placed=True)
    state, _ = run(ScanState((scan,)), "turn_normals")
    cut = np.packbits(scan.cloud.cloud.points[:, 2] > 0)[None]
    state = state.with_pass(0, replace(state.passes[0], keep=cut))
    store = ArrayStore(tmp_path / "s")
    kept = load_state(save_state(state, store), store, lambda key: PointsFolder(key).as_pass()).passes[0]
    assert (kept.kept_points() == (scan.cloud.cloud.points[:, 2] > 0)).all()
    assert np.allclose(kept.cloud.cloud.normals, -scan.cloud.cloud.normals) and kept.cloud.turned_over
    assert kept.cloud.surface.volume_mm3() < 0
    shown = pass_view(kept)
    assert shown.cloud.points[:, 2].min() > 0 and int(shown.stands_for.sum()) == int(kept.kept_points().sum())


def test_a_mesh_is_used_as_the_surface_as_it_came(tmp_path: Path) -> None:
    ball = uv_sphere(12.0)
    scan = replace(cloud_pass(ball, tmp_path / "ball"), placed=True, T_object_pass=shifted(5, 0, 0))
    state, report = run(ScanState((scan,)), "use_surface")
    assert report == {"source": "ball", "triangles": len(ball.faces), "holes": 0, "textured": False}
    assert np.allclose(state.mesh.vertices.mean(axis=0), [5, 0, 0], atol=1e-3)
    bare = replace(cloud_pass(PointCloud(ball.vertices), tmp_path / "bare"), placed=True)
    with pytest.raises(StepNotPossible, match="came as a mesh"):
        run(ScanState((bare,)), "use_surface")
    with pytest.raises(StepNotPossible, match="choose “ball”, “ball 2”"):
        run(ScanState((scan, replace(scan, title="ball 2"))), "use_surface")


def test_marks_fall_on_the_points_that_came_in(tmp_path: Path) -> None:
    scan = replace(cloud_pass(PointCloud(uv_sphere(12.0).vertices), tmp_path / "p"), T_object_pass=shifted(0, 0, 50))
    marks = Marks((BallStroke(((0.0, 0.0, 62.0),), 5.0),))
    shown = pass_view(scan)
    found = marked_pixels(scan, Marking(marks, shown.cloud.points, shown.cloud.normals, 1.0), silent)
    marked = np.unpackbits(found.bits[0], count=len(scan.cloud)).view(bool)
    assert (marked == (np.linalg.norm(scan.cloud.cloud.points - [0, 0, 12], axis=1) <= 5)).all() and marked.any()


def test_parts_of_a_scan_from_one_side_are_turned_the_same_way(lump: TriangleMesh) -> None:
    """Its separate parts face the scanner together, also those whose own middle would say otherwise."""
    part = part_scan(lump, WAYS[0])
    dish = grid_plane(20, 20, 0.8)
    hollow = dish.vertices - [10, 10, 0]
    hollow[:, 2] = 0.06 * (hollow[:, :2] ** 2).sum(axis=1)  # a bowl that opens to +z, so to its own middle
    turned = hollow[:, [2, 0, 1]] + [part.vertices[:, 0].min() - 4, 70, 0]
    points = np.concatenate([part.vertices, turned.astype(np.float32)])
    found = with_normals(PointCloud(points), points.mean(axis=0, dtype=np.float64)).normals
    assert (found[: len(part.vertices), 0] > 0).mean() > 0.97
    assert (found[len(part.vertices) :, 0] > 0).mean() > 0.97
