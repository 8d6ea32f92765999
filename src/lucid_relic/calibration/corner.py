"""The corner of two walls from the boards that hang on them, and the camera where nobody knows it."""

import cv2
import numpy as np

from lucid_relic.calibration.board import Board, NoBoard, SeenBoard, find_board
from lucid_relic.calibration.lens import board_pose
from lucid_relic.errors import StepNotPossible
from lucid_relic.types import Camera

# As they ship, to be printed on a sheet each; the numbers of the right one go on behind.
LEFT, RIGHT = (Board(square_mm=20.0, marker_mm=15.0, first_id=first) for first in (0, 120))
LEAST_ANGLE_DEG = 40.0  # between the walls: flatter corners do not tell the laser's plane


def corner_of(picture: np.ndarray, boards: tuple[Board, Board], camera: Camera | None) -> tuple[Camera, np.ndarray]:
    """Camera, and planes (2, 4) of the left and right wall in its frame, from a picture of the corner.

    Without a camera its focal length is found from the two boards together. Raises `StepNotPossible` when a board is not seen.
    """
    seen = []
    for board, side in zip(boards, ("left", "right"), strict=True):
        found = find_board(picture, board)
        if isinstance(found, NoBoard):
            raise StepNotPossible(f"The {side} wall: {found.why[0].lower()}{found.why[1:]}")
        seen.append(found)
    h, w = picture.shape[:2]
    camera = camera or _camera_of(seen, w, h)
    walls = np.stack([_plane(board_pose(s, camera)) for s in seen])
    angle = np.degrees(np.arccos(np.clip(abs(walls[0, :3] @ walls[1, :3]), 0, 1)))
    if angle < LEAST_ANGLE_DEG:
        raise StepNotPossible(
            f"The walls meet at {angle:.0f}°; a corner needs {LEAST_ANGLE_DEG:g}° or more, a right angle at best."
        )
    return camera, walls


def _camera_of(seen: list[SeenBoard], width: int, height: int) -> Camera:
    start = np.array([[width, 0, (width - 1) / 2], [0, width, (height - 1) / 2], [0, 0, 1.0]])
    flags = cv2.CALIB_USE_INTRINSIC_GUESS | cv2.CALIB_FIX_PRINCIPAL_POINT | cv2.CALIB_FIX_ASPECT_RATIO
    flags |= cv2.CALIB_ZERO_TANGENT_DIST | cv2.CALIB_FIX_K1 | cv2.CALIB_FIX_K2 | cv2.CALIB_FIX_K3
    places, pixels = [s.places.astype(np.float32) for s in seen], [s.pixels.astype(np.float32) for s in seen]
    _, K, *_ = cv2.calibrateCamera(places, pixels, (width, height), start, np.zeros(5), flags=flags)
    return Camera(width, height, float(K[0, 0]), float(K[1, 1]), float(K[0, 2]), float(K[1, 2]))


def _plane(pose: np.ndarray) -> np.ndarray:
    """Plane (4,) of a board by its pose, with its normal towards the camera."""
    normal = -pose[:3, 2]
    return np.append(normal, normal @ pose[:3, 3])
