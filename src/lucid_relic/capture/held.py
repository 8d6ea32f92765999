"""What a stand-in camera sees when somebody holds board or colour card before it, or lays the board on the plate."""

from dataclasses import dataclass

import numpy as np
from scipy.spatial.transform import Rotation

from lucid_relic.capture.board_view import view_of_flat
from lucid_relic.geometry.rigid import about_axis, from_rotvec
from lucid_relic.types import Camera

DARK, WHITE = 0.03, 0.75  # reflectance of what is printed
STRIDE = 0.6  # of the way to where the board is wanted that a hand goes from one picture to the next
SHAKE_DEG, SHAKE_SHARE = 1.5, 0.015  # of a hand: of the tilt, and of the distance
# Hidden from processing: no lens is quite as its sheet says, and no sensor sees colours as an eye does.
LENS_OFF = (1.0021, 1.0024, 1.8, -2.3)  # factors of fx, fy; pixels of cx, cy
DISTORTION = (-0.06, 0.03, 0.0004, -0.0003, 0.0)
KNOCKED = 1.011  # of the focal length after a knock
SENSOR = np.array([[0.86, 0.11, 0.03], [0.07, 0.84, 0.09], [0.02, 0.12, 0.86]])


def true_lens(sheet: Camera, knocked: bool = False) -> Camera:
    """The stand-in's lens, of which its sheet tells what it should be."""
    fx, fy, right, down = LENS_OFF
    more = KNOCKED if knocked else 1.0
    return Camera(
        sheet.width, sheet.height, sheet.fx * fx * more, sheet.fy * fy * more, sheet.cx + right, sheet.cy + down,
        DISTORTION,
    )  # fmt: skip


@dataclass(frozen=True)
class Print:
    """Something flat that is printed: linear light (h, w) or (h, w, 3), its pixels a millimetre, width and height in mm."""

    light: np.ndarray
    px_per_mm: float
    size_mm: tuple[float, float]

    @classmethod
    def of_board(cls, picture: np.ndarray, px_per_mm: float, size_mm: tuple[float, float]) -> "Print":
        """A board of black and white, from its picture (h, w) uint8."""
        return cls(DARK + (WHITE - DARK) * (picture / 255.0), px_per_mm, size_mm)


class HeldBoard:
    """Somebody brings the board where the preview asks for it, a stride with every picture; None is an empty hand."""

    def __init__(self, lens: Camera, board: Print | None, seed: int) -> None:
        self._lens = lens
        self._rng = np.random.default_rng(seed)
        self._board = board
        self._pose: np.ndarray | None = None

    def look(self, wanted: np.ndarray) -> np.ndarray:
        """(h, w) uint8 picture after the next stride to a pose (4, 4) board → camera."""
        if self._board is None:
            empty = DARK + 0.01 * self._rng.normal(size=(self._lens.height, self._lens.width))
            return (255 * np.clip(empty, 0, 1)).astype(np.uint8)
        self._pose = wanted.copy() if self._pose is None else _towards(self._pose, wanted)
        shaken = self._pose @ from_rotvec(np.radians(SHAKE_DEG) * self._rng.normal(size=3), np.zeros(3))
        shaken[:3, 3] += SHAKE_SHARE * self._pose[2, 3] * self._rng.normal(size=3)
        return view_of_flat(self._board.light, self._board.px_per_mm, self._lens, shaken, self._rng)


class BoardOnPlate:
    """The board lies on the plate of a table, beside its middle, and turns with it; None is an empty plate."""

    def __init__(self, lens: Camera, board: Print | None, distance_mm: float, down_deg: float, seed: int) -> None:
        self._lens = lens
        self._rng = np.random.default_rng(seed)
        self._board = board
        down = np.radians(down_deg)
        self._direction = np.array([0.004, -np.cos(down), -np.sin(down)])
        self._direction /= np.linalg.norm(self._direction)
        self._point = np.array([0.6, -0.4, distance_mm])
        w, h = (0.0, 0.0) if board is None else board.size_mm
        self._lying = from_rotvec(np.array([down - np.pi / 2, 0, 0]), np.zeros(3))
        self._lying[:3, 3] = self._point - self._lying[:3, :3] @ [0.47 * w, 0.52 * h, 0.0]

    def look(self, degrees: float) -> np.ndarray:
        """(h, w) uint8 picture with the plate turned by an angle."""
        if self._board is None:
            return np.full((self._lens.height, self._lens.width), 30, np.uint8)
        turned = about_axis(self._point, self._direction, np.radians(degrees)) @ self._lying
        return view_of_flat(self._board.light, self._board.px_per_mm, self._lens, turned, self._rng)


def look_at_card(lens: Camera, card: Print | None, lamp: np.ndarray, seed: int) -> np.ndarray:
    """(h, w, 3) uint8 photograph of a colour card under a lamp (3,); None is an empty hand."""
    rng = np.random.default_rng(seed)
    if card is None:
        return np.full((lens.height, lens.width, 3), 60, np.uint8)
    w, h = card.size_mm
    pose = from_rotvec(0.12 * rng.normal(size=3), np.zeros(3))
    distance = 1.35 * w * lens.fx / lens.width
    pose[:3, 3] = np.array([0, 0, distance]) - pose[:3, :3] @ [w / 2, h / 2, 0]
    light = np.clip(card.light @ SENSOR.T, 0, None) * lamp
    return view_of_flat(light, card.px_per_mm, lens, pose, rng, noise=0.002)


def white_sheet(reflectance: float) -> Print:
    """A sheet of plain white paper, as wide as it is shown."""
    return Print(np.full((60, 84, 3), reflectance), 0.2, (420.0, 300.0))


def _towards(pose: np.ndarray, wanted: np.ndarray) -> np.ndarray:
    between = Rotation.from_matrix(wanted[:3, :3] @ pose[:3, :3].T).as_rotvec()
    out = pose.copy()
    out[:3, :3] = Rotation.from_rotvec(STRIDE * between).as_matrix() @ pose[:3, :3]
    out[:3, 3] += STRIDE * (wanted[:3, 3] - pose[:3, 3])
    return out
