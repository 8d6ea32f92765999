"""The board check: the lens from pictures of the board in several positions (Zhang 2000, doi:10.1109/34.888718, by OpenCV)."""

from dataclasses import dataclass

import cv2
import numpy as np

from lucid_relic.calibration.board import Board, SeenBoard
from lucid_relic.errors import StepNotPossible
from lucid_relic.geometry.rigid import from_rotvec
from lucid_relic.types import Camera

FEWEST = 5  # positions
CELLS = (8, 6)  # of the image that should each have seen corners
GOOD_RMS_PX, GOOD_FIELD = 0.5, 0.6
TILTED_DEG, TILTED = 15.0, 3  # so many positions should be tilted: of square ones nothing tells the focal length
# The third radial term is left at 0: heads have narrow lenses, and it takes certainty from all other figures.
SURE = 0.004  # of the focal length, its standard deviation above which it is not known well


@dataclass(frozen=True)
class LensCheck:
    """camera; rms_px over all corners, of each picture, and of single coordinates' uncertainty; field (0-1) of the image
    that saw corners; poses (n, 4, 4) board → camera; focal_sd_px; ok, and why not."""

    camera: Camera
    rms_px: float
    picture_rms_px: np.ndarray
    field: float
    poses: np.ndarray
    focal_sd_px: float
    ok: bool
    why: tuple[str, ...]


def check_lens(seen: list[SeenBoard], width: int, height: int) -> LensCheck:
    """Calibrate from boards seen in pictures of one size; raises `StepNotPossible` for fewer than five."""
    if len(seen) < FEWEST:
        raise StepNotPossible(
            f"The board was read in {len(seen)} pictures; {FEWEST} positions are needed, near, far and tilted."
        )
    places = [s.places.astype(np.float32) for s in seen]
    pixels = [s.pixels.astype(np.float32) for s in seen]
    rms, K, d, turns, shifts, sd, _, per = cv2.calibrateCameraExtended(
        places, pixels, (width, height), np.eye(3), np.zeros(5), flags=cv2.CALIB_FIX_K3
    )
    poses = np.stack([_pose(r, t) for r, t in zip(turns, shifts, strict=True)])
    camera = Camera(width, height, K[0, 0], K[1, 1], K[0, 2], K[1, 2], tuple(float(k) for k in d.ravel()[:5]))
    field = field_seen(seen, width, height)
    focal_sd = float(np.asarray(sd).ravel()[0])
    why = tuple(_doubts(float(rms), field, poses, focal_sd / camera.fx))
    return LensCheck(camera, float(rms), np.asarray(per).ravel(), field, poses, focal_sd, not why, why)


def _doubts(rms: float, field: float, poses: np.ndarray, focal: float) -> list[str]:
    out = []
    if rms > GOOD_RMS_PX:
        out.append(
            f"Corners are off by {rms:.2f} pixels on average; {GOOD_RMS_PX:g} is the most. Is the board flat, the picture sharp?"
        )
    if field < GOOD_FIELD:
        out.append(f"Only {field:.0%} of the picture saw corners: show the board in its corners too.")
    if tilted(poses).sum() < TILTED:
        out.append(f"Fewer than {TILTED} positions are tilted, so that the focal length is not told.")
    elif focal > SURE:
        out.append(f"The focal length is known to {focal:.1%} only: add tilted positions.")
    return out


def tilted(poses: np.ndarray) -> np.ndarray:
    """(n,) bool of boards that do not face the camera squarely."""
    return np.degrees(np.arccos(np.clip(np.abs(poses[:, 2, 2]), 0, 1))) > TILTED_DEG


def field_seen(seen: list[SeenBoard], width: int, height: int) -> float:
    """Share (0-1) of the image's cells in which corners were seen."""
    cells = np.zeros(CELLS, bool)
    for s in seen:
        at = np.clip((s.pixels / [width, height] * CELLS).astype(int), 0, np.array(CELLS) - 1)
        cells[at[:, 0], at[:, 1]] = True
    return float(cells.mean())


def board_pose(seen: SeenBoard, camera: Camera) -> np.ndarray:
    """(4, 4) board → camera of one picture; raises `StepNotPossible` when it is not told."""
    K = np.array([[camera.fx, 0, camera.cx], [0, camera.fy, camera.cy], [0, 0, 1]])
    found, turn, shift = cv2.solvePnP(seen.places, seen.pixels, K, np.array(camera.distortion), flags=cv2.SOLVEPNP_IPPE)
    if not found:
        raise StepNotPossible("The board’s corners do not tell where it is.")
    turn, shift = cv2.solvePnPRefineLM(seen.places, seen.pixels, K, np.array(camera.distortion), turn, shift)
    return _pose(turn, shift)


def _pose(turn: np.ndarray, shift: np.ndarray) -> np.ndarray:
    return from_rotvec(np.asarray(turn, np.float64).ravel(), np.asarray(shift, np.float64).ravel())


def pixels_off(seen: SeenBoard, pose: np.ndarray, camera: Camera) -> np.ndarray:
    """(n, 2) pixels by which the board's corners are off where a pose puts them."""
    return camera.project(seen.places @ pose[:3, :3].T + pose[:3, 3]) - seen.pixels


def size_in_view(board: Board, camera: Camera, distance_mm: float) -> float:
    """Share (0-1) of the image's width that the board takes at a distance."""
    return board.size_mm[0] * camera.fx / distance_mm / camera.width
