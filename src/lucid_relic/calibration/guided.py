"""Guided positions of the board: the next one is drawn into the preview until it is reached."""

from dataclasses import dataclass

import numpy as np

from lucid_relic.calibration.board import Board
from lucid_relic.geometry.rigid import from_rotvec
from lucid_relic.types import Camera

NEAR_DEG, NEAR_SHARE = 12.0, 0.12  # of tilt, and of the board's size in place and distance, within which one is reached
# Words, tilt about x and y (degrees), where the middle lies (share of half the field), how much of the width it takes.
POSITIONS = (
    ("square, in the middle", 0.0, 0.0, 0.0, 0.0, 0.80),
    ("its left side nearer", 0.0, 45.0, -0.25, 0.0, 0.85),
    ("its right side nearer", 0.0, -45.0, 0.25, 0.0, 0.85),
    ("its upper side nearer", -45.0, 0.0, 0.0, -0.3, 0.85),
    ("its lower side nearer", 45.0, 0.0, 0.0, 0.3, 0.85),
    ("in the upper left corner", 32.0, 32.0, -0.5, -0.38, 0.65),
    ("in the lower right corner", -32.0, -32.0, 0.5, 0.38, 0.65),
    ("in the upper right corner", 32.0, -32.0, 0.5, -0.38, 0.65),
    ("in the lower left corner", -32.0, 32.0, -0.5, 0.38, 0.65),
)


@dataclass(frozen=True)
class Position:
    """Where the board should be held: words and its pose (4, 4) board → camera."""

    words: str
    pose: np.ndarray

    def outline(self, board: Board, camera: Camera) -> np.ndarray:
        """(4, 2) pixels of the board's corners, to draw."""
        return camera.project(board.outline() @ self.pose[:3, :3].T + self.pose[:3, 3])


def positions(board: Board, camera: Camera) -> list[Position]:
    """All positions that are asked for, in their order."""
    w, h = board.size_mm
    out = []
    for words, about_x, about_y, right, down, share in POSITIONS:
        distance = w * camera.fx / (share * camera.width)
        R = from_rotvec(np.radians([about_x, 0, 0]), np.zeros(3)) @ from_rotvec(
            np.radians([0, about_y, 0]), np.zeros(3)
        )
        half = np.array([camera.width / camera.fx, camera.height / camera.fy]) / 2 * distance
        room = np.maximum(half - np.array([w, h]) / 2 * 0.9, 0)
        middle = np.array([right * 2 * room[0], down * 2 * room[1], distance])
        pose = R.copy()
        pose[:3, 3] = middle - R[:3, :3] @ [w / 2, h / 2, 0]
        out.append(Position(words, pose))
    return out


def next_position(board: Board, camera: Camera, shown: list[np.ndarray]) -> Position | None:
    """The first position that none of the poses (4, 4) shown so far is near to; None when all are done."""
    return next((p for p in positions(board, camera) if not any(is_near(board, p.pose, pose) for pose in shown)), None)


def is_near(board: Board, wanted: np.ndarray, pose: np.ndarray) -> bool:
    """Whether a board is held about where it is wanted; which side is up does not matter."""
    w, h = board.size_mm
    middle = np.array([w / 2, h / 2, 0, 1])
    away = (pose - wanted) @ middle
    tilt = np.degrees(np.arccos(np.clip(pose[:3, 2] @ wanted[:3, 2], -1, 1)))
    distance = abs(away[2]) / wanted[2, 3]
    return bool(tilt < NEAR_DEG and np.linalg.norm(away[:2]) < 2 * NEAR_SHARE * w and distance < NEAR_SHARE)
