"""Find fit: wrong pairs in plenty, real scans against reference solvers, refusals with their reasons."""

from dataclasses import replace
from pathlib import Path

import kiss_matcher
import numpy as np
import pytest
import small_gicp
import trimesh
from scenes import knot_field, uv_sphere
from scipy.spatial import cKDTree
from scipy.spatial.transform import Rotation

from lucid_relic.alignment import place_passes as module
from lucid_relic.alignment.coarse import candidate_motions
from lucid_relic.alignment.find_fit import find_fit
from lucid_relic.alignment.fit_result import Fit, FitResult, RefusedFit, Side
from lucid_relic.alignment.place_passes import place_passes
from lucid_relic.demo.shapes import mesh_of
from lucid_relic.geometry.points import thin
from lucid_relic.geometry.rigid import difference, from_rotvec, inverse, transform_points
from lucid_relic.inspection.distance import sample_surface
from lucid_relic.io.meshes import read_points
from lucid_relic.light.srgb import to_srgb
from lucid_relic.operations import get_operation
from lucid_relic.progress import silent
from lucid_relic.types import Camera, PassState, PointCloud, TriangleMesh

REFERENCE = Path(__file__).parents[2] / "data" / "cache" / "reference"
RNG = np.random.default_rng(12)


def moved(cloud: PointCloud, motion: np.ndarray) -> PointCloud:
    return cloud.transformed(motion)


def somewhere(seed: int) -> np.ndarray:
    rng = np.random.default_rng(seed)
    return from_rotvec(Rotation.random(random_state=seed).as_rotvec(), rng.normal(size=3) * 60)


def cloud_of(mesh: TriangleMesh, count: int, seed: int) -> PointCloud:
    """Sampled points of a mesh with the normals of their faces."""
    points = sample_surface(mesh, count, seed)
    tree = trimesh.Trimesh(mesh.vertices, mesh.faces, process=False)
    face = cKDTree(tree.triangles_center).query(points)[1]
    return PointCloud(points.astype(np.float32), tree.face_normals[face].astype(np.float32))


@pytest.fixture(scope="module")
def lump() -> TriangleMesh:
    return mesh_of(knot_field, (-30, -34, -4), (30, 30, 62), 1.0)


@pytest.mark.parametrize("wrong", [0.5, 0.9, 0.95])
def test_the_right_motion_is_among_the_candidates_with_most_pairs_wrong(lump: TriangleMesh, wrong: float) -> None:
    fixed = thin(cloud_of(lump, 6000, 1), 1.5)
    truth = somewhere(4)
    moving = moved(fixed, inverse(truth))
    total = 1200
    right = int(total * (1 - wrong))
    rng = np.random.default_rng(3)
    good = rng.choice(len(fixed), right, replace=False)
    bad = rng.integers(len(fixed), size=(total - right, 2))
    pairs = np.concatenate([np.stack([good, good], axis=1), bad])
    found = candidate_motions(fixed, moving, rng.permutation(pairs), 1.5)
    turns = [difference(T, truth)[0] for T in found]
    # Coarse: within what the fine step, which reaches three voxels, takes up.
    assert min(turns) < 5.0 and turns[0] == min(turns)


def test_what_few_matches_say_is_a_candidate_beside_what_most_say(lump: TriangleMesh) -> None:
    # As of a body whose halves are alike: three quarters of the matches say one motion, a twentieth the other one.
    fixed = thin(cloud_of(lump, 6000, 1), 1.5)
    most, few = somewhere(4), somewhere(9)
    rng = np.random.default_rng(5)
    clouds = [moved(fixed, inverse(motion)) for motion in (most, few)]
    moving = PointCloud(*(np.concatenate([getattr(c, name) for c in clouds]) for name in ("points", "normals")))
    one, other = rng.choice(len(fixed), 900, replace=False), rng.choice(len(fixed), 60, replace=False)
    said = np.stack([np.concatenate([one, other]), np.concatenate([one, other + len(fixed)])], axis=1)
    wrong = np.stack([rng.integers(len(fixed), size=240), rng.integers(len(moving), size=240)], axis=1)
    found = candidate_motions(fixed, moving, rng.permutation(np.concatenate([said, wrong])), 1.5)
    assert difference(found[0], most)[0] < 5.0
    assert min(difference(T, few)[0] for T in found) < 5.0


@pytest.mark.parametrize("seed", range(4))
def test_bare_points_fit_from_any_position(lump: TriangleMesh, seed: int) -> None:
    fixed, other = cloud_of(lump, 9000, 1), cloud_of(lump, 9000, 2)
    truth = somewhere(seed)
    fit = find_fit(Side(fixed), Side(moved(other, inverse(truth))), silent)
    turn, _ = difference(fit.T_fixed_moving, truth)
    middle = transform_points(inverse(truth), fixed.points.mean(axis=0)[None].astype(np.float64))
    shift = np.linalg.norm(transform_points(fit.T_fixed_moving, middle) - transform_points(truth, middle))
    assert fit.accepted and turn < 0.3 and shift < 0.2


def test_two_real_scans_agree_with_reference_solvers() -> None:
    # Source: hippo1.ply and hippo2.ply of Debian's libcgal-demo, two scans of one figure from different sides.
    # References: KISS-Matcher 1.0.2 for the coarse pose, small_gicp 1.0.1 (GICP) for the fine one.
    one, two = (read_points(REFERENCE / f"hippo{k}.ply") for k in (1, 2))
    size = float(np.linalg.norm(np.ptp(one.points, axis=0)))
    fit = find_fit(Side(one), Side(two), silent)
    assert fit.accepted and fit.rms_mm < 0.01 * size and fit.overlap > 1 / 3
    a, b = one.points.astype(np.float64), two.points.astype(np.float64)
    matcher = kiss_matcher.KISSMatcher(kiss_matcher.KISSMatcherConfig(size / 60))
    coarse = matcher.estimate(b.astype(np.float32), a.astype(np.float32))
    start = np.eye(4)
    start[:3, :3], start[:3, 3] = np.array(coarse.rotation), np.array(coarse.translation).ravel()
    fine = small_gicp.align(
        a, b, init_T_target_source=start, registration_type="GICP", downsampling_resolution=size / 150,
        max_correspondence_distance=size / 30,
    )  # fmt: skip
    turn, shift = difference(fit.T_fixed_moving, fine.T_target_source)
    assert turn < 1.0 and shift < 0.01 * size


def test_different_surfaces_are_refused(lump: TriangleMesh) -> None:
    box = trimesh.creation.box((40, 25, 18)).subdivide()
    other = cloud_of(TriangleMesh(box.vertices.astype(np.float32), box.faces.astype(np.int32)), 6000, 1)
    fit = find_fit(Side(cloud_of(lump, 6000, 1)), Side(other), silent)
    assert not fit.accepted and len(fit.reason) > 20
    assert not hasattr(fit, "T_fixed_moving"), "a refusal must not be usable as a fit"


@pytest.mark.parametrize("shape", ["ball", "cylinder", "cube"])
def test_symmetric_bodies_are_refused_and_told(shape: str) -> None:
    bodies = {
        "ball": uv_sphere(20, 32, 64),
        "cylinder": trimesh.creation.cylinder(14, 50, sections=64),
        "cube": trimesh.creation.box((30, 30, 30)).subdivide(),
    }
    body = bodies[shape]
    mesh = TriangleMesh(np.asarray(body.vertices, np.float32), np.asarray(body.faces, np.int32))
    a, b = cloud_of(mesh, 4000, 1), moved(cloud_of(mesh, 4000, 2), somewhere(6))
    fit = find_fit(Side(a), Side(b), silent)
    assert not fit.accepted
    assert any(word in fit.reason for word in ("equally well", "too smooth", "looks alike"))


def test_a_small_common_area_is_refused_with_the_figure(lump: TriangleMesh) -> None:
    cloud = cloud_of(lump, 12000, 1)
    x = cloud.points[:, 0]
    low, high = x < np.quantile(x, 0.52), x > np.quantile(x, 0.48)
    pick = lambda m: PointCloud(cloud.points[m], cloud.normals[m])  # noqa: E731
    fit = find_fit(Side(pick(low)), Side(moved(pick(high), somewhere(2))), silent)
    assert not fit.accepted and fit.reason


@pytest.mark.parametrize("count", [0, 1, 99])
def test_too_few_points_are_refused_not_raised(lump: TriangleMesh, count: int) -> None:
    cloud = cloud_of(lump, 500, 1)
    few = PointCloud(cloud.points[:count], cloud.normals[:count])
    for pair in ((cloud, few), (few, cloud)):
        fit = find_fit(Side(pair[0]), Side(pair[1]), silent)
        assert not fit.accepted and f"only {count} points" in fit.reason


def _bare_pass(title: str) -> PassState:
    camera = Camera.centred(16, 16, 20.0)
    return PassState(title, None, camera, np.eye(4)[None], np.ones(1, bool), np.zeros(1, np.float32), True)


def _fit(accepted: bool, overlap: float, motion: np.ndarray) -> FitResult:
    if not accepted:
        return RefusedFit(reason="no", overlap=overlap, rms_mm=0.1)
    return Fit(T_fixed_moving=motion, reason="", overlap=overlap, rms_mm=0.1)


def test_passes_are_placed_along_the_best_tree_and_the_rest_is_named(monkeypatch) -> None:
    # b fits a badly and c well; d fits nothing. c must be placed on a first and b on c.
    names = ["a", "b", "c", "d"]
    passes = tuple(_bare_pass(n) for n in names)
    step = {n: from_rotvec(np.zeros(3), np.array([k * 10.0, 0, 0])) for k, n in enumerate(names)}
    table = {("a", "c"): (True, 0.8), ("c", "b"): (True, 0.7), ("a", "b"): (False, 0.2)}

    def known(fixed: Side, moving: Side, progress) -> FitResult:
        pair = (fixed.scan.title, moving.scan.title)
        accepted, overlap = table.get(pair, (False, 0.1))
        return _fit(accepted, overlap, inverse(step[pair[0]]) @ step[pair[1]])

    monkeypatch.setattr(module, "find_fit", known)
    cloud = PointCloud(np.zeros((4, 3), np.float32))
    placed, tried = place_passes(passes, [cloud] * 4, silent)
    assert [p.placed for p in placed] == [True, True, True, False]
    assert np.allclose(placed[1].T_object_pass, step["b"])
    assert len({t[:2] for t in tried}) == len(tried)


def test_placed_passes_stay_where_they_are(monkeypatch) -> None:
    first = replace(_bare_pass("a"), placed=True)
    second = replace(_bare_pass("b"), placed=True, T_object_pass=somewhere(1))
    cloud = PointCloud(np.zeros((4, 3), np.float32))
    placed, tried = place_passes((first, second), [cloud, cloud], silent)
    assert placed[1] is second and not tried


def test_colour_tells_the_turn_of_a_body_of_revolution(painted_vase) -> None:
    state, turn_of = painted_vase
    fit = state.notes["fit"]
    assert fit["accepted"] and fit["by_colour"] and "by its colour" in fit["reason"]
    assert turn_of(state) < 1.0


def test_colour_is_left_out_when_one_says_so(painted_vase) -> None:
    state, _ = painted_vase
    operation = get_operation("find_fit")
    left, report = operation.run(state, operation.parameters(again=True, colour="never"), silent)
    assert not left.passes[1].placed and not report["fits"][0]["by_colour"]


@pytest.mark.parametrize("paint", ["plain", "rings"])
def test_a_body_of_revolution_is_refused_when_its_colour_tells_nothing(paint: str) -> None:
    body = trimesh.creation.cylinder(14, 50, sections=96)
    mesh = TriangleMesh(np.asarray(body.vertices, np.float32), np.asarray(body.faces, np.int32))

    def painted(seed: int) -> PointCloud:
        cloud = cloud_of(mesh, 5000, seed)
        light = np.full(5000, 0.3) if paint == "plain" else 0.3 + 0.2 * np.sin(cloud.points[:, 2] / 4)
        return replace(cloud, colours=to_srgb(np.stack([light, light, light], axis=1)))

    fit = find_fit(Side(painted(1)), Side(moved(painted(2), somewhere(6))), silent)
    assert not fit.accepted and not fit.by_colour
