"""Where a lost head may be: frames that were placed, told apart by small pictures of what they saw.

A picture is a few hundred cells around the middle of what was measured, so many millimetres wide whatever the distance:
how far each lies before or behind the middle, and its fine light. Frames from nearly the same side look nearly alike
(cf. the ferns of Glocker et al. 2015, doi:10.1109/TVCG.2014.2360403, for whole rooms).
"""

from dataclasses import dataclass

import numpy as np

from lucid_relic.alignment._kernels import NO_LIGHT
from lucid_relic.alignment.views import STRIDE, FrameView
from lucid_relic.geometry.rigid import difference

CELLS = 20  # a side of a picture
MOST = 400  # places that are remembered; beyond it every second one goes
STEP_DEG = 4.0  # between places, of the turn of the head
STEP_SHARE = 0.05  # or of the distance to the object, of its shift
MISSING = 0.5  # what a cell counts, in half widths, that only one of two pictures has
LIGHT_WORTH = 0.5  # half widths that a difference of one in log light counts
ROLLS = (0.0, -25.0, 25.0, -50.0, 50.0)  # degrees that a head may be rolled against the place


@dataclass(frozen=True)
class Place:
    """A frame that was placed: its number, its pose camera → pass, the middle (3,) of what it saw, in its camera, and how
    well its light agreed with the model's (NaN where that is not known)."""

    frame: int
    pose: np.ndarray
    middle: np.ndarray
    light: float


@dataclass(frozen=True)
class Picture:
    """relief and light (CELLS, CELLS) float32, NaN where nothing is known."""

    relief: np.ndarray
    light: np.ndarray


def middle_of(view: FrameView) -> np.ndarray:
    """(3,) middle of what a frame sees, in its camera's frame."""
    return np.median(view.points, axis=0).astype(np.float64)


def picture_of(view: FrameView, middle: np.ndarray, half_mm: float, roll_deg: float = 0.0) -> Picture:
    """The picture of a view, half_mm from its middle to its border, turned in itself by roll_deg."""
    fx, fy, cx, cy = view.cam[:4] / STRIDE
    across = (np.arange(CELLS) + 0.5) * 2 / CELLS - 1
    u, v = np.meshgrid(across, across)
    cos, sin = np.cos(np.radians(roll_deg)), np.sin(np.radians(roll_deg))
    x, y = middle[0] + half_mm * (cos * u - sin * v), middle[1] + half_mm * (sin * u + cos * v)
    column = np.rint(x / middle[2] * fx + cx).astype(int)
    row = np.rint(y / middle[2] * fy + cy).astype(int)
    height, width = view.fitted.shape
    inside = (row >= 0) & (column >= 0) & (row < height) & (column < width)
    row, column = np.where(inside, row, 0), np.where(inside, column, 0)
    z = view.fitted[row, column]
    seen = inside & (z > 0)
    relief = np.where(seen, (z - middle[2]) / half_mm, np.nan).astype(np.float32)
    light = np.full(relief.shape, np.nan, np.float32)
    if view.has_light:
        own = view.light[row, column, 0]
        light = np.where(seen & (own > NO_LIGHT), own, np.nan).astype(np.float32)
    return Picture(np.clip(relief, -1, 1), light)


class Places:
    """Frames that were placed, a step apart from each other, each with its picture."""

    def __init__(self, half_mm: float) -> None:
        self.half_mm = half_mm
        self.known: list[Place] = []
        self._reliefs = np.zeros((0, CELLS, CELLS), np.float32)
        self._lights = np.zeros((0, CELLS, CELLS), np.float32)
        self._wider = 1.0

    def a_step_on(self, pose: np.ndarray, middle: np.ndarray) -> bool:
        """Whether a pose is a step away from the newest place; middle (3,) of what is seen there, in its camera."""
        if not self.known:
            return True
        last = self.known[-1].pose
        turned, _ = difference(last, pose)
        shift = float(np.linalg.norm(pose[:3, 3] - last[:3, 3])) / max(float(np.linalg.norm(middle)), 1e-9)
        return bool(turned > self._wider * STEP_DEG or shift > self._wider * STEP_SHARE)

    def remember(self, frame: int, pose: np.ndarray, view: FrameView, light: float) -> Place:
        """Take a frame in."""
        place = Place(frame, pose, middle_of(view), light)
        picture = picture_of(view, place.middle, self.half_mm)
        self.known.append(place)
        self._reliefs = np.concatenate([self._reliefs, picture.relief[None]])
        self._lights = np.concatenate([self._lights, picture.light[None]])
        if len(self.known) > MOST:
            self._wider *= 1.4
            self._keep(range(0, len(self.known), 2))
        return place

    def forget(self, frames: set[int]) -> None:
        """Forget the places of some frames."""
        self._keep([k for k, place in enumerate(self.known) if place.frame not in frames])

    def _keep(self, which: range | list[int]) -> None:
        self.known = [self.known[k] for k in which]
        self._reliefs, self._lights = self._reliefs[list(which)], self._lights[list(which)]

    def move(self, poses: dict[int, np.ndarray]) -> None:
        """Give places the poses that their frames have now."""
        self.known = [Place(p.frame, poses[p.frame], p.middle, p.light) for p in self.known]

    def likely(self, view: FrameView, count: int) -> list[tuple[np.ndarray, float]]:
        """Poses (4, 4) at which a lost frame may be, and the light there, the likeliest first, from different places."""
        if not self.known:
            return []
        middle = middle_of(view)
        scored = []
        for roll in ROLLS:
            picture = picture_of(view, middle, self.half_mm, roll)
            for k, apart in enumerate(self._apart(picture)):
                scored.append((float(apart), k, roll))
        out: list[tuple[np.ndarray, float]] = []
        taken: set[int] = set()
        for _, k, roll in sorted(scored):
            if k not in taken:
                taken.add(k)
                out.append((placed_like(self.known[k], middle, roll), self.known[k].light))
            if len(out) == count:
                break
        return out

    def _apart(self, picture: Picture) -> np.ndarray:
        """(k,) how unlike a picture and those of all places are."""
        own, known = np.isfinite(picture.relief), np.isfinite(self._reliefs)
        both, either = own & known, own | known
        gap = np.where(both, np.abs(self._reliefs - picture.relief), 0).sum(axis=(1, 2))
        lit = both & np.isfinite(self._lights) & np.isfinite(picture.light)
        unlike = np.where(lit, np.abs(self._lights - picture.light), 0).sum(axis=(1, 2))
        alone = (either & ~both).sum(axis=(1, 2))
        return (gap + MISSING * alone + LIGHT_WORTH * unlike) / np.maximum(either.sum(axis=(1, 2)), 1)


def placed_like(place: Place, middle: np.ndarray, roll_deg: float = 0.0) -> np.ndarray:
    """The pose that puts the middle of a lost frame, rolled so, where that of a place is."""
    cos, sin = np.cos(np.radians(roll_deg)), np.sin(np.radians(roll_deg))
    # A picture turned by the roll is like the place's: what lies at R p in the frame lies at p in the place.
    back = np.eye(4)
    back[:2, :2] = [[cos, sin], [-sin, cos]]
    back[:3, 3] = place.middle - back[:3, :3] @ middle
    return place.pose @ back
