"""The board check against cameras whose figures are known, and against OpenCV run by itself."""

import cv2
import numpy as np
import pytest

from lucid_relic.calibration.axis import check_axis
from lucid_relic.calibration.board import Board, NoBoard, SeenBoard, find_board
from lucid_relic.calibration.guided import is_near, next_position, positions
from lucid_relic.calibration.lens import board_pose, check_lens
from lucid_relic.capture.board_view import view_of_flat
from lucid_relic.errors import InputError, StepNotPossible
from lucid_relic.geometry.rigid import about_axis, from_rotvec
from lucid_relic.types import Camera

BOARD = Board()
TRUE = Camera(640, 480, 864.0, 866.0, 322.3, 236.9, (-0.12, 0.08, 0.0006, -0.0004, 0.0))
PX_PER_MM = 8.0


def picture_at(pose: np.ndarray, camera: Camera = TRUE, board: Board = BOARD, seed: int = 0) -> np.ndarray:
    linear = 0.03 + 0.72 * (board.picture(PX_PER_MM).astype(np.float32) / 255)
    return view_of_flat(linear, PX_PER_MM, camera, pose, np.random.default_rng(seed))


def corners_at(pose: np.ndarray, rng: np.random.Generator, noise_px: float, camera: Camera = TRUE) -> SeenBoard:
    """Corners where the camera projects them, with noise; those out of the picture are not seen."""
    places = BOARD.of_opencv().getChessboardCorners().astype(np.float64)
    pixels = camera.project(places @ pose[:3, :3].T + pose[:3, 3]) + rng.normal(0, noise_px, (len(places), 2))
    inside = ((pixels > 4) & (pixels < [camera.width - 5, camera.height - 5])).all(axis=1)
    return SeenBoard(pixels[inside], places[inside], np.flatnonzero(inside))


@pytest.fixture(scope="module")
def pictures() -> list[np.ndarray]:
    start = Camera.centred(640, 480, 850.0)
    return [picture_at(p.pose, seed=k) for k, p in enumerate(positions(BOARD, start))]


def test_the_lens_is_found_within_a_fifth_of_a_percent_with_corners_off_by_a_tenth_of_a_pixel() -> None:
    for seed in range(8):
        rng = np.random.default_rng(seed)
        seen = [corners_at(p.pose, rng, 0.1) for p in positions(BOARD, TRUE)]
        found = check_lens(seen, 640, 480)
        assert found.ok and found.rms_px == pytest.approx(0.1 * np.sqrt(2), rel=0.15)
        for name in ("fx", "fy"):
            assert getattr(found.camera, name) == pytest.approx(getattr(TRUE, name), rel=2e-3)
        assert [found.camera.cx, found.camera.cy] == pytest.approx([TRUE.cx, TRUE.cy], abs=2.0)
        assert abs(found.camera.fx - TRUE.fx) < 4 * found.focal_sd_px + 0.3


def test_rendered_pictures_give_the_lens_and_agree_with_opencv_run_by_itself(pictures: list[np.ndarray]) -> None:
    seen = [find_board(picture, BOARD) for picture in pictures]
    assert all(isinstance(s, SeenBoard) for s in seen)
    found = check_lens(seen, 640, 480)
    assert found.ok and found.rms_px < 0.2 and found.field > 0.8
    assert found.camera.fx == pytest.approx(TRUE.fx, rel=2e-3) and found.camera.fy == pytest.approx(TRUE.fy, rel=2e-3)
    model = BOARD.of_opencv()
    theirs = [cv2.aruco.CharucoDetector(model).detectBoard(p)[:2] for p in pictures]
    matched = [model.matchImagePoints(corners, ids) for corners, ids in theirs]
    rms, K, d, *_ = cv2.calibrateCamera(
        [m[0] for m in matched], [m[1] for m in matched], (640, 480), None, None, flags=cv2.CALIB_FIX_K3
    )
    ours = found.camera
    assert [ours.fx, ours.fy, ours.cx, ours.cy] == pytest.approx([K[0, 0], K[1, 1], K[0, 2], K[1, 2]], rel=1e-3)
    assert found.rms_px == pytest.approx(rms, rel=1e-2)
    assert ours.distortion[:2] == pytest.approx(d.ravel()[:2], abs=0.02)


def test_what_is_doubtful_is_said() -> None:
    rng = np.random.default_rng(1)
    square = [positions(BOARD, TRUE)[0].pose.copy() for _ in range(6)]
    for k, pose in enumerate(square):
        pose[:3, 3] += [3 * k, -2 * k, 8 * k]
    flat = check_lens([corners_at(p, rng, 0.1) for p in square], 640, 480)
    assert not flat.ok and any("tilted" in why for why in flat.why)
    blurred = check_lens([corners_at(p.pose, rng, 0.9) for p in positions(BOARD, TRUE)], 640, 480)
    assert not blurred.ok and "off by" in blurred.why[0]
    with pytest.raises(StepNotPossible, match="read in 3 pictures; 5 positions"):
        check_lens([corners_at(p.pose, rng, 0.1) for p in positions(BOARD, TRUE)[:3]], 640, 480)


def test_no_board_another_board_and_a_corner_of_it_are_told_apart() -> None:
    pose = positions(BOARD, TRUE)[0].pose
    nothing = find_board(np.full((480, 640), 90, np.uint8), BOARD)
    assert isinstance(nothing, NoBoard) and "not in view" in nothing.why
    other = find_board(picture_at(pose, board=Board(first_id=120)), BOARD)
    assert isinstance(other, NoBoard) and "another board" in other.why
    aside = pose.copy()
    aside[:3, 3] += [-112, -74, 0]
    corner = find_board(picture_at(aside), BOARD)
    assert isinstance(corner, NoBoard) and ("corners of the board" in corner.why or "no corner" in corner.why)
    with pytest.raises(InputError, match="smaller than its squares"):
        Board(marker_mm=20.0)


def test_positions_are_asked_for_one_by_one_and_lie_in_the_picture() -> None:
    wanted = positions(BOARD, TRUE)
    assert len(wanted) >= 5
    for p in wanted:
        pixels = p.outline(BOARD, TRUE)
        inside = ((pixels > -40) & (pixels < [680, 520])).all()
        assert inside, p.words
    shown: list[np.ndarray] = []
    for p in wanted:
        asked = next_position(BOARD, TRUE, shown)
        assert asked is not None and asked.words == p.words
        shown.append(p.pose @ from_rotvec(np.array([0.03, 0.02, 0.2]), np.array([2.0, 1.0, 0.0])))
        assert is_near(BOARD, p.pose, shown[-1])
    assert next_position(BOARD, TRUE, shown) is None


def test_the_pose_of_one_board_is_found() -> None:
    wanted = positions(BOARD, TRUE)[5].pose
    found = board_pose(corners_at(wanted, np.random.default_rng(3), 0.05), TRUE)
    assert np.allclose(found[:3, 3], wanted[:3, 3], atol=0.3) and np.allclose(found[:3, :3], wanted[:3, :3], atol=3e-3)


@pytest.mark.parametrize("seed", range(5))
def test_the_tables_axis_is_found_within_a_tenth_of_a_degree_and_of_a_millimetre(seed: int) -> None:
    rng = np.random.default_rng(seed)
    direction = np.array([0.03 * rng.normal(), -np.cos(0.42), -np.sin(0.42)])
    direction /= np.linalg.norm(direction)
    point = np.array([1.4, -2.2, 270.0])
    # The board lies on the plate, its middle beside the axis.
    lying = from_rotvec(np.array([np.pi / 2 - 0.42, 0, 0]), np.zeros(3))
    lying[:3, 3] = point - lying[:3, :3] @ [62.0, 50.0, 0.0]
    degrees = np.arange(8) * 45.0
    seen = [corners_at(T @ lying, rng, 0.1) for T in about_axis(point, direction, np.radians(degrees))]
    found = check_axis(seen, degrees, TRUE)
    assert found.ok and found.rms_px == pytest.approx(0.1 * np.sqrt(2), rel=0.2)
    assert np.degrees(np.arccos(np.clip(found.direction @ direction, -1, 1))) < 0.1
    away = np.linalg.norm(np.cross(found.point - point, direction))
    assert away < 0.1 and away < 5 * found.sd_mm + 0.01


def test_an_axis_that_is_not_told_is_refused_and_a_knocked_board_is_noticed() -> None:
    rng = np.random.default_rng(2)
    lying = positions(BOARD, TRUE)[4].pose
    point, up = np.array([0, 0, 270.0]), np.array([0, -0.8, -0.6])
    with pytest.raises(StepNotPossible, match="4 stops"):
        check_axis([corners_at(lying, rng, 0.1)] * 3, np.array([0, 45, 90.0]), TRUE)
    degrees = np.arange(6) * 15.0
    turned = about_axis(point, up, np.radians(degrees)) @ lying
    turned[3:] = turned[3:] @ from_rotvec(np.array([0, 0, 0.05]), np.array([2.0, 0, 0]))
    found = check_axis([corners_at(T, rng, 0.05) for T in turned], degrees, TRUE)
    assert not found.ok and "moved on the plate" in found.why[0]
