"""The table's axis from a board that lies on its plate: reprojection over all stops at once."""

from dataclasses import dataclass

import numpy as np
from scipy.optimize import least_squares

from lucid_relic.calibration.board import SeenBoard
from lucid_relic.calibration.lens import board_pose, pixels_off
from lucid_relic.errors import StepNotPossible
from lucid_relic.geometry.rigid import about_axis, basis_from_z, from_rotvec, inverse
from lucid_relic.types import Camera

LEAST_STOPS, LEAST_TURN_DEG = 4, 60.0
GOOD_RMS_PX = 0.6


@dataclass(frozen=True)
class AxisCheck:
    """point (3,) mm and direction (3,) of the axis in the camera's frame, the point nearest to the camera's axis; rms_px;
    standard deviations of place (mm) and direction (degrees); ok, and why not."""

    point: np.ndarray
    direction: np.ndarray
    rms_px: float
    sd_mm: float
    sd_deg: float
    ok: bool
    why: tuple[str, ...]


def check_axis(seen: list[SeenBoard], degrees: np.ndarray, camera: Camera) -> AxisCheck:
    """The axis about which a board turned by `degrees` (n,), counter-clockwise seen from the tip of the direction.

    Raises `StepNotPossible` for too few stops or too small a turn.
    """
    if len(seen) < LEAST_STOPS or np.ptp(degrees) < LEAST_TURN_DEG:
        raise StepNotPossible(
            f"The axis needs the board at {LEAST_STOPS} stops over {LEAST_TURN_DEG:g}° or more; "
            f"it was read at {len(seen)}, over {np.ptp(degrees) if len(seen) else 0:.0f}°."
        )
    poses = np.stack([board_pose(s, camera) for s in seen])
    angles = np.radians(degrees - degrees[0])
    direction, point = _start(poses, angles, seen)
    frame = basis_from_z(direction)

    def unpacked(x: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        d = frame @ np.array([x[0], x[1], 1.0])
        return d / np.linalg.norm(d), point + frame[:, :2] @ x[2:4], from_rotvec(x[4:7], x[7:10]) @ poses[0]

    def off(x: np.ndarray) -> np.ndarray:
        d, p, first = unpacked(x)
        turned = about_axis(p, d, angles) @ first
        return np.concatenate([pixels_off(s, T, camera).ravel() for s, T in zip(seen, turned, strict=True)])

    found = least_squares(
        off, np.zeros(10), x_scale=np.array([1e-2, 1e-2, 1, 1, 1e-2, 1e-2, 1e-2, 1, 1, 1]), loss="soft_l1"
    )
    d, p, _ = unpacked(found.x)
    residual = off(found.x)
    rms = float(np.sqrt(2 * (residual**2).mean()))
    spread = np.linalg.inv(found.jac.T @ found.jac) * (residual**2).sum() / max(len(residual) - 10, 1)
    sd = np.sqrt(np.maximum(np.diag(spread), 0))
    why = () if rms <= GOOD_RMS_PX else (
        f"Corners are off by {rms:.2f} pixels on average: the board moved on the plate, or the table does not turn as it says.",
    )  # fmt: skip
    return AxisCheck(
        _nearest_to_view(p, d), d, rms, float(np.hypot(*sd[2:4])), float(np.degrees(np.hypot(*sd[:2]))), not why, why
    )


def _start(poses: np.ndarray, angles: np.ndarray, seen: list[SeenBoard]) -> tuple[np.ndarray, np.ndarray]:
    """Direction from the turns between stops, and the place that stays still."""
    best = int(np.argmax(np.minimum(angles % (2 * np.pi), -angles % (2 * np.pi))))
    axes = []
    for T, a in zip(poses, angles, strict=True):
        turned = T[:3, :3] @ poses[0][:3, :3].T
        skew = np.array([turned[2, 1] - turned[1, 2], turned[0, 2] - turned[2, 0], turned[1, 0] - turned[0, 1]])
        axes.append(skew * np.sin(a))
    direction = np.sum(axes, axis=0)
    direction /= np.linalg.norm(direction)
    rows, right = [], []
    for T in poses[[0, best, len(poses) // 2]]:
        motion = T @ inverse(poses[0])
        rows.append(np.eye(3) - motion[:3, :3])
        right.append(motion[:3, 3])
    rows.append(direction[None])
    right.append(np.zeros(1))
    point, *_ = np.linalg.lstsq(np.concatenate(rows), np.concatenate(right), rcond=None)
    return direction, point


def _nearest_to_view(point: np.ndarray, direction: np.ndarray) -> np.ndarray:
    """The place on the axis that is nearest to the camera's line of sight."""
    a, b = direction[:2], point[:2]
    return point - direction * float(a @ b / max(a @ a, 1e-9))
