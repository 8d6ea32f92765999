"""Pictures for the shelf, directions for bare points, fine light, and the files of a finished run."""

import json
from dataclasses import replace

import numpy as np
import pytest
from scenes import grid_plane, torus, uv_sphere

from lucid_relic.alignment import _kernels as alignment_kernels
from lucid_relic.alignment.views import fine_light
from lucid_relic.geometry.normals import with_normals
from lucid_relic.io.results import finite, placements, run_report, write_json
from lucid_relic.light.srgb import to_linear, to_srgb
from lucid_relic.types import PointCloud, ScanState
from lucid_relic.view.picture import picture_of_mesh, picture_of_points


def test_the_picture_of_a_ball_is_a_disc_that_fills_the_square() -> None:
    picture = picture_of_mesh(uv_sphere(20.0), 128)
    assert picture.shape == (128, 128, 4) and picture.dtype == np.uint8
    v, u = np.mgrid[:128, :128]
    seen = picture[..., 3] > 127
    # 2 % are left around it, and it stands a little above the lower edge.
    assert seen.sum() == pytest.approx(np.pi * (64 / 1.02) ** 2, rel=0.02)
    assert u[seen].mean() == pytest.approx(63.5, abs=0.6)
    assert seen[:, 64].nonzero()[0][-1] >= 126
    assert not picture[0, 0].any() and not picture[127, 127].any()


def test_a_ball_is_lit_from_the_upper_left() -> None:
    grey = picture_of_mesh(uv_sphere(20.0), 96)[..., :3].mean(axis=2)
    assert grey[30, 30] > grey[48, 48] > grey[75, 75] > 20


def test_a_picture_shows_the_colours_of_the_mesh() -> None:
    ball = uv_sphere(20.0)
    red = replace(ball, colours=np.tile(np.array([200, 40, 30], np.uint8), (len(ball.vertices), 1)))
    middle = picture_of_mesh(red, 64)[20:44, 20:44, :3].reshape(-1, 3).mean(axis=0)
    assert middle[0] > 2.5 * middle[1] > 2.5 * middle[2]


def test_a_flat_thing_and_a_tall_thing_stay_inside_the_square() -> None:
    for stretch in ((3.0, 1.0, 0.2), (0.3, 0.3, 4.0)):
        ball = uv_sphere(10.0)
        picture = picture_of_mesh(replace(ball, vertices=(ball.vertices * stretch).astype(np.float32)), 80)
        seen = picture[..., 3] > 0
        longest = max(np.ptp(axis.nonzero()[0]) for axis in (seen.any(axis=0), seen.any(axis=1)))
        assert 74 <= longest <= 79
        assert not seen[:, 0].any() or not seen[0].any()


def test_points_are_painted_nearest_in_front_and_only_from_their_face() -> None:
    ball = uv_sphere(20.0, 96, 192)
    colours = np.where(ball.vertices[:, 1:2] < 0, [220, 30, 30], [30, 30, 220]).astype(np.uint8)
    cloud = PointCloud(ball.vertices, ball.vertex_normals(), colours)
    picture = picture_of_points(cloud, 96)
    # The viewer stands in front (−y): the blue half is behind, but for what the turn and the lift bring round.
    shown = picture[picture[..., 3] > 0][:, :3].astype(int)
    assert (shown[:, 0] > 200).mean() > 0.75
    behind = picture_of_points(replace(cloud, normals=-cloud.normals), 96)
    assert (behind[behind[..., 3] > 0][:, 2] > 200).mean() > 0.75
    bare = picture_of_points(PointCloud(ball.vertices), 96)
    assert (bare[bare[..., 3] > 0][:, :3] == 150).all()


@pytest.mark.parametrize("inward", [False, True])
def test_bare_points_of_a_ball_get_normals_along_the_radius(inward: bool) -> None:
    rng = np.random.default_rng(4)
    unit = rng.normal(size=(3000, 3))
    unit /= np.linalg.norm(unit, axis=1, keepdims=True)
    # Seen from far outside on one side only, as a scanner would, "outward" must still win by the majority.
    found = with_normals(PointCloud((30 * unit).astype(np.float32)), np.zeros(3)).normals
    cos = np.einsum("ij,ij->i", found, unit)
    assert cos.min() > 0.97
    given = PointCloud((30 * unit).astype(np.float32), (-unit).astype(np.float32))
    if inward:
        assert with_normals(given, np.zeros(3)).normals is given.normals


def test_normals_turn_alike_around_a_ring_and_on_separate_sheets() -> None:
    ring = torus(30.0, 9.0)
    found = with_normals(PointCloud(ring.vertices), np.zeros(3)).normals
    assert (np.einsum("ij,ij->i", found, ring.vertex_normals()) > 0.95).mean() > 0.999
    sheet = grid_plane(20, 20, 1).vertices
    apart = np.concatenate([sheet - (10, 10, 40), sheet - (10, 10, -40)]).astype(np.float32)
    found = with_normals(PointCloud(apart), np.zeros(3)).normals
    assert (found[: len(sheet), 2] < -0.99).all() and (found[len(sheet) :, 2] > 0.99).all()


def test_fine_light_does_not_change_with_exposure_or_with_a_lamp_that_falls_off() -> None:
    rng = np.random.default_rng(6)
    v, u = np.mgrid[:90, :120]
    detail = 0.25 * (1 + 0.4 * np.sin(u / 2.5) * np.cos(v / 3.0))
    known = ((v - 45) ** 2 + (u - 60) ** 2 < 40**2) & (rng.uniform(size=v.shape) > 0.02)
    grey = [to_srgb(np.repeat((detail * lamp)[..., None], 3, axis=2)) for lamp in (1.0, 0.45, 0.4 + u / 150)]
    first, darker, sideways = (fine_light(image, known) for image in grey)
    inner = known & ((v - 45) ** 2 + (u - 60) ** 2 < 28**2)
    scatter = first[inner].std()
    assert scatter > 0.15
    assert np.abs(darker - first)[inner].mean() < 0.02 * scatter
    assert np.abs(sideways - first)[inner].mean() < 0.12 * scatter
    assert (first[~known] == alignment_kernels.NO_LIGHT).all() and np.abs(first[inner].mean()) < 0.1 * scatter


def test_linear_light_and_back_is_the_same_code() -> None:
    codes = np.arange(256, dtype=np.uint8)
    assert np.array_equal(to_srgb(to_linear(codes)), codes)
    assert to_srgb(np.array([-1.0, 2.0])).tolist() == [0, 255]


def test_reports_are_plain_json(tmp_path) -> None:
    messy = {"a": np.float32(np.nan), "b": [np.int64(3), float("inf")], "c": (np.arange(3), {"d": np.bool_(True)})}
    assert finite(messy) == {"a": None, "b": [3, None], "c": [[0, 1, 2], {"d": True}]}
    write_json(tmp_path / "report.json", finite(messy))
    assert json.loads((tmp_path / "report.json").read_text())["c"][1]["d"] is True
    with pytest.raises(ValueError, match="not JSON compliant"):
        write_json(tmp_path / "report.json", messy["a"].item())
    assert json.loads((tmp_path / "report.json").read_text())["b"] == [3, None]


def test_a_run_tells_what_was_placed_and_how_the_mesh_is(processed) -> None:
    state, steps = processed
    done = [{"operation": step.operation, "seconds": 2.0, "report": finite(report)} for step, _, report in steps]
    report = run_report(state, done)
    assert report["accepted"] and report["not_placed"] == [] and report["seconds"] == 2.0 * len(steps)
    assert report["result"]["watertight"] and 0 < report["made_up_area_fraction"] < 0.3
    loose = replace(state, passes=(state.passes[0], replace(state.passes[1], placed=False)), mesh=None)
    report = run_report(loose, [])
    assert not report["accepted"] and report["not_placed"] == [state.passes[1].title] and report["result"] is None


def test_placements_name_every_frame_and_leave_out_what_is_out(processed) -> None:
    state, _ = processed
    scan = state.passes[0]
    some = replace(scan, frame_in=np.arange(scan.frame_count) != 2)
    told = placements(ScanState((some, replace(state.passes[1], placed=False))))["passes"]
    assert [f is None for f in told[0]["frames"]] == [n == 2 for n in range(scan.frame_count)]
    assert np.array_equal(told[0]["T_object_pass"], scan.T_object_pass) and told[1]["T_object_pass"] is None
    assert np.array_equal(told[0]["frames"][5], scan.frame_poses[5])
    json.dumps(told, allow_nan=False)
