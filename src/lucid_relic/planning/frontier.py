"""What is captured of an object and what is not: space in coarse cells, its border towards what nobody has seen.

Every look frees the cells it went through. What is not free and lies beside what is free is the border: measured
surface, or the edge of the unknown, whatever hides behind it. A pose gains what it would see of the border that is not
seen enough yet (after Connolly 1985, doi:10.1109/ROBOT.1985.1087372).
"""

from dataclasses import dataclass

import cv2
import numpy as np

from lucid_relic.geometry.rigid import inverse
from lucid_relic.planning import _kernels
from lucid_relic.planning.coverage import LEAST_COMMON, Coverage, Enough
from lucid_relic.types import Instrument

CELLS = 52  # along the longest side of the object
MARGIN_CELLS = 3  # around it
AROUND, UP_DEG = 12, (12.0, 32.0, 52.0, 72.0)  # where a head may be held: so many places round, at these heights
GRAZING_DEG = 68.0  # beyond which no look is counted on in advance
SIDES = 16
HOLES_PX, RIM_PX = 9, 3  # of a thinned map: gaps in what is seen are no background, nor is a rim that was too steep
FAR_MM = np.float32(1e7)
HIGH_DEG = 40.0  # from which on an eye is on the upper sides
STEPS = 255.0


def _with_background(fitted: np.ndarray) -> np.ndarray:
    """A map (h, w) of depths, far away where nothing was measured beside all that was: there the look went past.

    Black surfaces that answer nowhere are taken for background too; what drops out amid the rest stays unknown.
    """
    seen = (fitted > 0).astype(np.uint8)
    within = cv2.morphologyEx(seen, cv2.MORPH_CLOSE, np.ones((HOLES_PX, HOLES_PX), np.uint8))
    within = cv2.dilate(within, np.ones((2 * RIM_PX + 1, 2 * RIM_PX + 1), np.uint8))
    return np.where((within == 0) & (fitted <= 0), FAR_MM, fitted)


@dataclass(frozen=True)
class Move:
    """A pose to hold the head at: its eye (3,), what it gains (0-1 of what can be reached) and how much it has in common."""

    eye: np.ndarray
    gain: float
    common: float


@dataclass(frozen=True)
class Border:
    """Places (n, 3) with normals (n, 3), and how they were seen; their sides are those of the sky over the object."""

    places: np.ndarray
    normals: np.ndarray
    seen: Coverage


class Frontier:
    """The cells around an object that stands between low and high (3,) mm, up (3,) away from what it stands on.

    floor is a plane (4,) n·p = d that it stands on, or None while it is not known: what lies beneath cannot be reached.
    """

    def __init__(self, low: np.ndarray, high: np.ndarray, up: np.ndarray, floor: np.ndarray | None) -> None:
        self.within = (low, high)
        self.cell_mm = float((high - low).max()) / CELLS
        self.low = low - MARGIN_CELLS * self.cell_mm
        shape = tuple(np.ceil((high - low) / self.cell_mm).astype(int) + 2 * MARGIN_CELLS)
        self.middle, self.reach_mm = (low + high) / 2, float(np.linalg.norm(high - low)) / 2
        self.up, self.floor = up / np.linalg.norm(up), floor
        self._state = np.zeros(shape, np.uint8)
        self._times, self._square = np.zeros(shape, np.uint8), np.zeros(shape, np.uint8)
        self._sides, self._facing = np.zeros(shape, np.uint16), np.zeros((*shape, 3), np.float32)

    def look(
        self, pose: np.ndarray, cam: np.ndarray, stride: int, fitted: np.ndarray, normals: np.ndarray, count: int = 1
    ) -> None:
        """Take in what a head saw from a pose (4, 4) in so many frames: maps thinned by a stride, cam a `Camera.as_vector`."""
        way = np.uint16(1 << self._side(pose[:3, 3]))
        _kernels.carve(
            self.low, self.cell_mm, inverse(pose), cam, stride, _with_background(fitted), normals, way, count,
            self._state, self._times, self._square, self._sides, self._facing,
        )  # fmt: skip

    def outgrown(self, low: np.ndarray, high: np.ndarray, cells: float) -> bool:
        """Whether an object from low to high reaches out of the grid's own by more than so many cells."""
        slack = cells * self.cell_mm
        return bool((low < self.within[0] - slack).any() or (high > self.within[1] + slack).any())

    def way_to(self, eye: np.ndarray) -> np.ndarray:
        """(3,) direction of length 1 from the object to an eye."""
        way = eye - self.middle
        return way / max(float(np.linalg.norm(way)), 1e-9)

    def bearing(self, eye: np.ndarray) -> tuple[float, float, float]:
        """Where an eye is: round the object counter-clockwise seen from above and up from level (degrees), and its height (mm)."""
        way = eye - self.middle
        height = float(way @ self.up)
        up = np.degrees(np.arcsin(np.clip(height / max(float(np.linalg.norm(way)), 1e-9), -1, 1)))
        right, front = self._round()
        return float(np.degrees(np.arctan2(way @ right, way @ front))) % 360, float(up), height

    def _side(self, eye: np.ndarray) -> int:
        """Which of the sides of the sky an eye is on."""
        around, up, _ = self.bearing(eye)
        return min(int(around / 360 * (SIDES // 2)), SIDES // 2 - 1) + (SIDES // 2 if up > HIGH_DEG else 0)

    def level_at(self, places: np.ndarray, need: Enough) -> np.ndarray:
        """(n,) float32 0-1 how well the cells of places (n, 3) were seen, from never to enough."""
        index = np.floor((places - self.low) / self.cell_mm).astype(int)
        inside = ((index >= 0) & (index < self._state.shape)).all(axis=1)
        at = tuple(np.where(inside[:, None], index, 0).T)
        return np.where(inside, self._seen_at(at).level(need), np.float32(0))

    def _seen_at(self, at: tuple[np.ndarray, ...]) -> Coverage:
        """How some cells were seen."""
        cos = np.sqrt(self._square[at].astype(np.float32) / np.float32(STEPS))
        return Coverage(self._times[at].astype(np.int32), cos, self._sides[at])

    def _round(self) -> tuple[np.ndarray, np.ndarray]:
        """Two directions square to the upright one and to each other; the first is a quarter turn counter-clockwise on."""
        helper = np.eye(3)[int(np.argmin(np.abs(self.up)))]
        right = np.cross(self.up, helper)
        right /= np.linalg.norm(right)
        return right, np.cross(right, self.up)

    def border(self) -> Border:
        """The border of what is free, above the floor."""
        free = self._state == _kernels.FREE
        toward = np.zeros((*free.shape, 3), np.float32)
        open_sides = np.zeros(free.shape, np.uint8)
        for axis in range(3):
            for sign in (1, -1):
                beside = np.roll(free, -sign, axis=axis)
                edge = [slice(None)] * 3
                edge[axis] = slice(-1, None) if sign > 0 else slice(0, 1)
                beside[tuple(edge)] = False
                toward[..., axis] += sign * beside
                open_sides += beside
        on = ~free & (open_sides > 0)
        index = np.argwhere(on)
        places = self.low + (index + 0.5) * self.cell_mm
        if self.floor is not None:
            above = places @ self.floor[:3] - self.floor[3] > self.cell_mm
            index, places = index[above], places[above]
        at = tuple(index.T)
        measured = self._facing[at]
        normals = np.where(self._times[at][:, None] > 0, measured, toward[at]).astype(np.float64)
        normals /= np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-9)
        return Border(places, normals, self._seen_at(at))

    def held_places(self, sheet: Instrument) -> np.ndarray:
        """(n, 3) eyes at which a head may be held: all round, at some heights, as far off as its band asks for."""
        right, front = self._round()
        distance = sheet.distance_for(self.reach_mm)
        out = []
        for up_deg in UP_DEG:
            e = np.radians(up_deg)
            for k in range(AROUND):
                a = 2 * np.pi * k / AROUND
                out.append(np.cos(e) * (np.sin(a) * right + np.cos(a) * front) + np.sin(e) * self.up)
        return self.middle + distance * np.array(out)

    def sees(self, eye: np.ndarray, border: Border, grazing_deg: float = GRAZING_DEG) -> np.ndarray:
        """(n,) uint8 squares of cosines (255 steps) at which an eye sees the places of a border, 0 where it does not."""
        out = np.zeros(len(border.places), np.uint8)
        least = float(np.cos(np.radians(grazing_deg)))
        _kernels.seen_from(eye, border.places, border.normals, self.low, self.cell_mm, self._state, least, out)
        return out

    def moves(self, sheet: Instrument, need: Enough) -> tuple[float, list[Move]]:
        """What share (0-1) of what a held head can reach is seen enough, and where to hold it next, best first.

        A look at a place counts `need.times` looks there: a head that is held takes many frames.
        """
        border = self.border()
        eyes = self.held_places(sheet)
        seen = np.stack([self.sees(eye, border) for eye in eyes])
        reached = seen.any(axis=0)
        total = max(int(reached.sum()), 1)
        enough = border.seen.enough(need)
        moves = []
        for eye, own in zip(eyes, seen, strict=True):
            gained = ~enough & border.seen.joined(self._held_at(eye, own, need)).enough(need)
            common = (border.seen.times > 0)[own > 0]
            moves.append(Move(eye, float(gained.sum()) / total, float(common.mean()) if len(common) else 0.0))
        good = [m for m in moves if m.common >= LEAST_COMMON and m.gain > 0]
        return float((enough & reached).sum()) / total, sorted(good, key=lambda m: -m.gain)

    def _held_at(self, eye: np.ndarray, seen: np.ndarray, need: Enough) -> Coverage:
        """What a head that is held at an eye for a while adds, by the squares that it sees (see `sees`)."""
        held = seen > 0
        way = np.where(held, np.uint16(1 << self._side(eye)), np.uint16(0))
        return Coverage(held * np.int32(need.times), np.sqrt(seen.astype(np.float32) / np.float32(STEPS)), way)
