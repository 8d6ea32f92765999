"""What decides between turns that look alike: a small part, paint, free space; and what several passes say together."""

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from scenes import write_capture
from scipy.spatial import cKDTree
from scipy.spatial.transform import Rotation

from lucid_relic.alignment import place_passes as placing
from lucid_relic.alignment.evidence import MOST, Evidence
from lucid_relic.alignment.find_fit import find_fit
from lucid_relic.alignment.fit_result import Fit, RefusedFit, Side
from lucid_relic.alignment.place_passes import place_passes
from lucid_relic.alignment.rivals import own_symmetries
from lucid_relic.capture.model import ScanModel
from lucid_relic.capture.traits import ScannerTraits
from lucid_relic.capture.virtual import TurntablePlan
from lucid_relic.demo.shapes import box, capsule, mesh_of, revolved, smooth_union, sphere
from lucid_relic.geometry.pass_points import pass_points
from lucid_relic.geometry.rigid import difference, from_rotvec, inverse
from lucid_relic.geometry.spacing import pixel_spacing
from lucid_relic.inspection.distance import sample_surface
from lucid_relic.io.capture_folder import CaptureFolder
from lucid_relic.light.srgb import to_srgb
from lucid_relic.operations import get_operation
from lucid_relic.progress import silent
from lucid_relic.types import Camera, PassState, PointCloud, ScanState, TriangleMesh

TRAITS = ScannerTraits(width=240, height=180, focal_px=324.0, standoff_mm=260.0, noise_mm=0.04)
DOME = [(0.0, 44.0), (10.0, 41.0), (21.0, 31.0), (27.0, 17.0), (28.0, 6.0), (27.0, 0.0), (0.0, 0.0)]
KNOB = (27.0, 0.0, 21.0)


def dome(p: np.ndarray) -> np.ndarray:
    return revolved(p, DOME)


def dome_with_knob(p: np.ndarray) -> np.ndarray:
    return smooth_union(dome(p), sphere(p, KNOB, 5), 2)


def cleat(p: np.ndarray) -> np.ndarray:
    """A shape that is the same after half a turn about z, and in no other turn."""

    def lobe(q: np.ndarray) -> np.ndarray:
        d = capsule(q, (-3, 1, 20), (29, 7, 27), 8, 4)
        return smooth_union(d, box(q, (6, 5, 8), (8, 6, 8), 2), 4)

    return smooth_union(lobe(p), lobe(p * np.float32([-1, -1, 1])), 3)


def meshed(field) -> TriangleMesh:
    return mesh_of(field, (-42, -36, -3), (42, 36, 54), 0.9)


def painted(mesh: TriangleMesh, two: bool) -> ScanModel:
    """The halves of a shape in one paint or in two of about the same lightness."""
    side = (mesh.vertices[:, 0] > 0)[:, None] & two
    return ScanModel(
        mesh, np.where(side, [0.42, 0.20, 0.18], [0.2, 0.26, 0.34]).astype(np.float32), np.zeros(len(side), np.float32)
    )


def scanned(root: Path, model: ScanModel) -> tuple[list[Side], np.ndarray]:
    """Two passes cleaned, as sides with colours, and the true T_fixed_moving, which only the tests read."""
    plans = [
        TurntablePlan(stops=12, elevation_deg=30),
        TurntablePlan(stops=12, elevation_deg=30, tip_deg=85.0, start_deg=51.0, title="tipped"),
    ]
    scanners = [write_capture(root / plan.title, model, plan, n + 1, TRAITS) for n, plan in enumerate(plans)]
    state = ScanState(tuple(CaptureFolder(root / plan.title).as_pass() for plan in plans))
    for name in ("place_frames", "stand_cut"):
        step = get_operation(name)
        state, _ = step.run(state, step.parameters(), silent)
    sides = [Side(pass_points(p, 1.2 * pixel_spacing(p), coloured=True), p) for p in state.passes]
    places = [s.truth_poses()[0] @ inverse(p.frame_poses[0]) for s, p in zip(scanners, state.passes, strict=True)]
    return sides, inverse(places[0]) @ places[1]


def bare(side: Side) -> Side:
    """A side without its photographs."""
    return replace(side, cloud=PointCloud(side.cloud.points, side.cloud.normals))


def turned_off(fit, truth: np.ndarray) -> float:
    assert fit.accepted, fit.reason
    return difference(fit.T_fixed_moving, truth)[0]


@pytest.fixture(scope="module")
def knobbed(tmp_path_factory: pytest.TempPathFactory):
    return scanned(tmp_path_factory.mktemp("knob"), ScanModel.plain(meshed(dome_with_knob)))


@pytest.fixture(scope="module")
def two_paints(tmp_path_factory: pytest.TempPathFactory):
    return scanned(tmp_path_factory.mktemp("cleat"), painted(meshed(cleat), two=True))


def test_a_knob_tells_how_a_body_of_revolution_is_turned(knobbed) -> None:
    (fixed, moving), truth = knobbed
    for sides in ((fixed, moving), (bare(fixed), bare(moving))):
        fit = find_fit(*sides, silent)
        assert turned_off(fit, truth) < 0.5 and not fit.by_colour


def test_without_the_knob_it_is_refused(tmp_path: Path) -> None:
    (fixed, moving), _ = scanned(tmp_path, ScanModel.plain(meshed(dome)))
    fit = find_fit(fixed, moving, silent)
    assert not fit.accepted and ("equally well" in fit.reason or "too smooth" in fit.reason)


def test_half_a_turn_is_told_by_paint_and_refused_without_it(two_paints) -> None:
    (fixed, moving), truth = two_paints
    fit = find_fit(fixed, moving, silent)
    assert turned_off(fit, truth) < 0.5 and fit.by_colour
    plain = find_fit(bare(fixed), bare(moving), silent)
    assert not plain.accepted and "180°" in plain.reason


@pytest.mark.parametrize(("first", "second"), [(range(4, 9), range(9, 13)), (range(6, 11), range(13, 17))])
def test_halves_that_look_alike_are_refused_when_each_side_saw_another_one(two_paints, first, second) -> None:
    # Laid half a turn wrong they share nearly all; as it was, a third of it and mostly rims, or a little less.
    scan = two_paints[0][0].scan

    def part(frames: range) -> Side:
        seen = replace(scan, frame_in=np.isin(np.arange(12), np.array(frames) % 12))
        return Side(pass_points(seen, 1.2 * pixel_spacing(seen)), seen)

    fit = find_fit(part(first), part(second), silent)
    assert not fit.accepted and "180°" in fit.reason and fit.overlap > 0.3


def test_paint_that_differs_refuses_what_the_shape_accepts() -> None:
    # One half of the cleat, and the other half laid where it looks alike: only their stripes differ.
    mesh = meshed(cleat)
    points = sample_surface(mesh, 30_000, 1).astype(np.float32)
    nearest = cKDTree(mesh.vertices).query(points)[1]
    cloud = PointCloud(points, mesh.vertex_normals()[nearest].astype(np.float32))
    one = cloud.points[:, 0] > 0

    def half(which: np.ndarray, along: int) -> PointCloud:
        light = 0.2 + 0.15 * np.sin(cloud.points[which, along] / 1.8)[:, None] * [1.0, 0.7, 0.3]
        return PointCloud(cloud.points[which], cloud.normals[which], to_srgb(light))

    moving = half(~one, 2).transformed(somewhere := from_rotvec(np.array([0.2, 0.5, 1.0]), np.array([9.0, 2, 4])))
    plain = find_fit(bare(Side(half(one, 1))), bare(Side(moving)), silent)
    assert plain.accepted and difference(plain.T_fixed_moving, inverse(somewhere))[0] > 170
    fit = find_fit(Side(half(one, 1)), Side(moving), silent)
    assert not fit.accepted and "colours do not" in fit.reason and fit.colours_differ
    again = half(one, 1).transformed(somewhere)
    assert find_fit(Side(half(one, 1)), Side(again), silent).accepted


@pytest.mark.parametrize(("shape", "turns"), [("cleat", 1), ("brick", 3)])
def test_the_symmetries_of_a_body_are_found(shape: str, turns: int) -> None:
    field = cleat if shape == "cleat" else lambda p: box(p, (0, 0, 15), (25, 18, 11), 1)
    cloud = PointCloud(sample_surface(meshed(field), 4000, 1).astype(np.float32))
    moved = cloud.transformed(from_rotvec(np.array([0.4, -0.8, 0.3]), np.array([12.0, 5, -7])))
    found = own_symmetries(moved, 1.5)
    tree = cKDTree(moved.points)
    best = sorted(found, key=lambda T: np.median(tree.query(moved.transformed(T).points)[0]))[:turns]
    assert len(best) == turns
    assert all(Rotation.from_matrix(T[:3, :3]).magnitude() > np.radians(170) for T in best)


def test_patches_are_won_where_the_other_motion_is_off_and_cancel_where_both_are() -> None:
    right = Evidence(np.array([0.1] * 20 + [MOST] * 5 + [np.nan] * 3, np.float32), np.arange(28) >= 22, 0.0)
    wrong = Evidence(np.array([0.1] * 12 + [MOST] * 13 + [0.2] * 3, np.float32), np.arange(28) < 15, 0.0)
    assert right.against(wrong) == (8, 0) and wrong.against(right) == (0, 8)
    assert right.contradicted == pytest.approx(5 / 25) and right.known == 25
    # Of the eight that it wins the other one is grossly off in three only.
    assert right.grossly(wrong) == (3, 0) and wrong.grossly(right) == (0, 3)


def _pass(title: str) -> PassState:
    camera = Camera.centred(16, 16, 20.0)
    return PassState(title, None, camera, np.eye(4)[None], np.ones(1, bool), np.zeros(1, np.float32), True)


@pytest.mark.parametrize("wrong", [False, True])
def test_three_passes_must_close(wrong: bool, monkeypatch: pytest.MonkeyPatch) -> None:
    # c is laid onto a and onto b; where the two say different things, nothing is accepted.
    step = {n: from_rotvec(np.zeros(3), np.array([k * 10.0, 0, 0])) for k, n in enumerate("abc")}
    half = from_rotvec(np.array([0, 0, np.pi]), np.zeros(3))

    def known(fixed: Side, moving: Side, progress):
        pair = fixed.scan.title + moving.scan.title
        motion = inverse(step[pair[0]]) @ step[pair[1]]
        if pair == "bc" and wrong:
            motion = motion @ half
        return Fit(T_fixed_moving=motion, reason="", overlap=0.9 if pair == "ab" else 0.7, rms_mm=0.1)

    monkeypatch.setattr(placing, "find_fit", known)
    monkeypatch.setattr(placing, "contradiction", lambda *sides: "")
    cloud = PointCloud(np.random.default_rng(1).normal(size=(200, 3)).astype(np.float32) * 20)
    placed, tried = place_passes(tuple(map(_pass, "abc")), [cloud] * 3, silent)
    assert [p.placed for p in placed] == [True, True, not wrong]
    told = [f.reason for _, i, f in tried if i == 2 and isinstance(f, RefusedFit)]
    assert bool(told) == wrong and all("180°" in reason for reason in told)


def test_a_pass_that_others_looked_through_is_not_placed(monkeypatch: pytest.MonkeyPatch) -> None:
    def known(fixed: Side, moving: Side, progress):
        pair = fixed.scan.title + moving.scan.title
        if pair == "bc":
            return RefusedFit(reason="nothing in common")
        return Fit(T_fixed_moving=np.eye(4), reason="", overlap=0.8, rms_mm=0.1)

    monkeypatch.setattr(placing, "find_fit", known)
    monkeypatch.setattr(placing, "contradiction", lambda *sides: "9 % looked through")
    cloud = PointCloud(np.random.default_rng(1).normal(size=(200, 3)).astype(np.float32))
    placed, tried = place_passes(tuple(map(_pass, "abc")), [cloud] * 3, silent)
    assert [p.placed for p in placed] == [True, True, False]
    assert any("contradicts “b”" in f.reason for _, i, f in tried if i == 2)
