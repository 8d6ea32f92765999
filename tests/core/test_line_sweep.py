"""Line sweeps before a corner: planes, lines and depth against the stand-in's truth, and what cannot be read."""

import json
from pathlib import Path

import numpy as np
import pytest
from scenes import knot_model

from lucid_relic.calibration.board import Board
from lucid_relic.calibration.corner import LEFT, RIGHT, corner_of
from lucid_relic.capture.line_laser import BOARD_PX_PER_MM, LineLaser, SweepPlan
from lucid_relic.capture.optics import look
from lucid_relic.demo.objects import demo_model
from lucid_relic.desk.sweeps import capture_of_sweeps
from lucid_relic.errors import InputError, StepNotPossible
from lucid_relic.io.capture_folder import CaptureFolder
from lucid_relic.io.sweep_folder import open_sweeps
from lucid_relic.io.sweep_writer import SweepWriter
from lucid_relic.light.srgb import to_srgb
from lucid_relic.progress import silent
from lucid_relic.triangulation.line import ambient, line_places
from lucid_relic.triangulation.sweep import Corner, depth_of_sweep, laser_plane
from lucid_relic.types import Camera

CAMERA = Camera.centred(800, 600, 1000.0)
BOARDS = (LEFT.picture(BOARD_PX_PER_MM), RIGHT.picture(BOARD_PX_PER_MM))


@pytest.fixture(scope="module")
def laser() -> LineLaser:
    return LineLaser(demo_model("owl"), SweepPlan(sweeps=3, pictures=200), CAMERA, BOARDS, seed=3)


@pytest.fixture(scope="module")
def pictures(laser: LineLaser) -> list[np.ndarray]:
    return list(laser.pictures(0))


def test_the_corner_is_found_from_its_boards_with_and_without_a_known_lens(laser: LineLaser) -> None:
    picture = laser.corner_picture()
    for camera in (CAMERA, None):
        found, walls = corner_of(picture, (LEFT, RIGHT), camera)
        assert found.fx == pytest.approx(1000.0, rel=1e-3)
        for told, true in zip(walls, laser.truth_planes(), strict=True):
            assert np.degrees(np.arccos(np.clip(told[:3] @ true[:3], -1, 1))) < 0.1
            assert told[3] == pytest.approx(true[3], abs=0.5)


def test_depth_is_true_to_a_tenth_of_a_millimetre_on_an_object_of_a_hundred(
    laser: LineLaser, pictures: list[np.ndarray]
) -> None:
    camera, walls = corner_of(laser.corner_picture(), (LEFT, RIGHT), CAMERA)
    depth, figures = depth_of_sweep(len(pictures), lambda i: pictures[i], Corner(camera, walls))
    seen = look(laser._scene, CAMERA, laser._turned(0))
    true = np.where(seen.hit, seen.z, 0).reshape(depth.shape)
    both = (depth > 0) & (true > 0)
    off = (depth - true)[both]
    assert np.median(np.abs(off)) < 0.1 and abs(np.median(off)) < 0.06 and np.abs(off).mean() < 0.13
    assert both.sum() > 0.85 * (true > 0).sum() and ((depth > 0) & (true == 0)).sum() < 0.01 * both.sum()
    assert figures.read == len(pictures) and figures.off_mm < 0.4


def test_the_line_is_found_to_a_tenth_of_a_pixel_and_print_does_not_count_as_line() -> None:
    rng = np.random.default_rng(1)
    u, v = np.meshgrid(np.arange(200), np.arange(120))
    true = 40.3 + 0.21 * np.arange(200)
    ground = 0.1 * np.repeat(rng.random((120, 200, 1)), 3, axis=2)
    line = 0.5 * np.exp(-0.5 * ((v - true[u]) / 1.2) ** 2)
    lit = to_srgb(ground + line[..., None] * np.array([1, 0.03, 0.03]) + rng.normal(0, 0.002, (120, 200, 3)))
    places = line_places(lit, ambient([to_srgb(ground)] * 3))
    assert len(places) == 200
    assert np.abs(places[:, 1] - true[places[:, 0].astype(int)]).mean() < 0.1
    assert len(line_places(to_srgb(ground), ambient([to_srgb(ground)] * 3))) == 0


def test_the_lasers_plane_follows_from_where_it_meets_the_walls(laser: LineLaser) -> None:
    corner, rng = Corner(CAMERA, laser.truth_planes()), np.random.default_rng(2)
    plane = np.array([0.05, 0.86, 0.5])
    plane = np.append(plane / np.linalg.norm(plane), 250.0)
    rays = np.concatenate([CAMERA.rays, np.ones((600, 800, 1))], axis=2)
    wall = corner.wall_depths(rays.reshape(-1, 3)).min(axis=1).reshape(600, 800)
    away = np.abs((rays * wall[..., None]) @ plane[:3] - plane[3])
    v = away.argmin(axis=0)
    good = away.min(axis=0) < 0.4
    places = np.column_stack([np.arange(800), v])[good].astype(float)
    places[::9, 1] += rng.uniform(10, 60, len(places[::9]))  # what stands before the walls
    found = laser_plane(places, corner, rng)
    assert found is not None
    told, rms = found
    told = told * np.sign(told[:3] @ plane[:3])
    assert np.degrees(np.arccos(np.clip(told[:3] @ plane[:3], -1, 1))) < 0.1 and told[3] == pytest.approx(
        250.0, abs=0.3
    )
    assert rms < 0.5
    assert laser_plane(places[places[:, 0] < 380], corner, rng) is None, "one wall alone tells no plane"


def small_laser() -> LineLaser:
    return LineLaser(knot_model(1.5), SweepPlan(sweeps=2, pictures=70), CAMERA, BOARDS, seed=4)


def test_a_folder_of_sweeps_becomes_a_capture_with_a_photograph_for_each(tmp_path: Path) -> None:
    laser = small_laser()
    writer = SweepWriter(tmp_path / "in", "lump", laser.corner_picture())
    for k in range(2):
        writer.sweep(laser.photograph(k), laser.pictures(k))
    writer.finish()
    told = capture_of_sweeps(open_sweeps(tmp_path / "in"), tmp_path / "out", silent)
    scan = CaptureFolder(tmp_path / "out").as_pass()
    assert scan.frame_count == 2 and scan.tracking == "shape" and scan.title == "lump"
    assert (scan.source.depth(1) > 0).sum() > 3000 and scan.source.colour(0).shape == (600, 800, 3)
    assert [f.read for f in told.figures] == [70, 70]


@pytest.fixture
def written(tmp_path: Path) -> Path:
    """A folder of one sweep of three pictures without a line."""
    laser = small_laser()
    writer = SweepWriter(tmp_path / "sweeps", "dark", laser.corner_picture())
    writer.sweep(None, [laser.photograph(0)] * 3)
    writer.finish()
    return tmp_path / "sweeps"


def change(folder: Path, **fields: object) -> Path:
    data = json.loads((folder / "sweep.json").read_text())
    (folder / "sweep.json").write_text(json.dumps({**data, **fields}))
    return folder


def test_a_sweep_without_a_line_is_refused_in_a_sentence(written: Path, tmp_path: Path) -> None:
    with pytest.raises(StepNotPossible, match="sweep 1: no laser line is to be seen"):
        capture_of_sweeps(open_sweeps(written), tmp_path / "out", silent)


@pytest.mark.parametrize(
    ("fields", "says"),
    [
        ({"format": "other"}, "sweep.json: format must be"),
        ({"sweeps": []}, "sweeps must be a list"),
        ({"sweeps": [{"pictures": []}]}, r"sweeps\[0\].pictures"),
        ({"sweeps": [{"pictures": ["../secret.jpg"]}]}, "path inside the folder"),
        ({"corner": None}, "corner is missing"),
        ({"walls": [[1, 2, 3]]}, "walls must be 2 × 4 finite numbers"),
        ({"camera": {"width": 800}}, "camera must be 6 finite numbers"),
        ({"boards": [{"columns": "many"}, {}]}, "boards"),
        ({"title": ""}, "title must be text"),
    ],
)
def test_a_wrong_sweep_json_names_what_is_wrong(written: Path, fields: dict, says: str) -> None:
    with pytest.raises(InputError, match=says):
        open_sweeps(change(written, **fields))


def test_missing_pictures_other_sizes_and_no_boards_are_named(written: Path, tmp_path: Path) -> None:
    with pytest.raises(InputError, match="000/0009.jpg: sweep.json names this picture"):
        capture_of_sweeps(
            open_sweeps(change(written, sweeps=[{"pictures": ["000/0000.jpg", "000/0009.jpg"]}])),
            tmp_path / "a",
            silent,
        )
    (written / "corner.png").write_bytes((written / "000/0000.jpg").read_bytes()[:900])
    with pytest.raises(InputError, match="corner.png: this picture is damaged"):
        capture_of_sweeps(open_sweeps(written), tmp_path / "b", silent)
    with pytest.raises(InputError, match="not a folder of line sweeps"):
        open_sweeps(tmp_path)


def test_a_corner_without_or_with_the_wrong_board_is_said() -> None:
    with pytest.raises(StepNotPossible, match="The left wall: the board is not in view"):
        corner_of(np.full((600, 800, 3), 128, np.uint8), (LEFT, RIGHT), CAMERA)
    with pytest.raises(StepNotPossible, match="The right wall: this is another board"):
        corner_of(small_laser().corner_picture(), (LEFT, Board(square_mm=20.0, marker_mm=15.0, first_id=60)), CAMERA)
