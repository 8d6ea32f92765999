"""Ways to capture an object, pass by pass, and which of them sees enough of a guessed solid."""

from dataclasses import dataclass

import numpy as np

from lucid_relic.geometry.rigid import about_axis
from lucid_relic.planning.paths import RINGS, preset_path, turn_path
from lucid_relic.planning.solid import Solid, seen_by
from lucid_relic.types import Instrument, Stop

TURNS = (8, 12, 18, 24, 36)  # stops that are offered
TIPS = (90.0, 180.0, -90.0)  # how an object is laid for another pass, in the order they are tried
MOST_FAILS = 0.95  # share of single looks that glare may take: some side always answers


@dataclass(frozen=True)
class Pose:
    """One pass: how far the object is tipped about which horizontal line (degrees), and the table's stops."""

    tip_deg: float
    stops: tuple[Stop, ...]
    about_deg: float = 0.0


@dataclass(frozen=True)
class Way:
    """Passes one after the other, in words and as stops."""

    words: str
    passes: tuple[Pose, ...]

    @property
    def frames(self) -> int:
        return sum(len(p.stops) for p in self.passes)


def lying(middle: np.ndarray, tip_deg: float, about_deg: float) -> np.ndarray:
    """(4, 4) the plate's frame → the object's, which is tipped about a horizontal line through its `middle` (3,)."""
    about = np.radians(about_deg)
    return about_axis(middle, np.array([np.cos(about), np.sin(about), 0]), -np.radians(tip_deg))


def eyes_of(way: Way, head: np.ndarray, middle: np.ndarray, baseline_mm: float) -> tuple[np.ndarray, np.ndarray]:
    """Where the camera and the projector stand (n, 3) for every frame of a way, in the object's frame.

    head (4, 4) is the camera's place over the plate at the table's rest, z up; a tilted plate lifts the head about a
    horizontal line through the object's `middle`, a tipped object turns about it.
    """
    up = np.array([0, 0, 1.0])
    poses = []
    for one in way.passes:
        tipped = lying(middle, one.tip_deg, one.about_deg)
        for stop in one.stops:
            lift = about_axis(middle, head[:3, 0], -np.radians(stop.tilt_deg))
            poses.append(tipped @ about_axis(np.zeros(3), up, -np.radians(stop.turn_deg)) @ lift @ head)
    all_poses = np.stack(poses)
    return all_poses[:, :3, 3], all_poses[:, :3, 3] + baseline_mm * all_poses[:, :3, 0]


class Onlooker:
    """Asks how much of a solid ways see with an instrument whose head stands at `head` (4, 4) over the plate at rest.

    stays is the share of the surface that never answers (dark, clear), fails that which a single look loses to glare;
    answers about single eyes are kept, since ways share them.
    """

    def __init__(
        self, solid: Solid, sheet: Instrument, head: np.ndarray, stays: float = 0.0, fails: float = 0.0
    ) -> None:
        self.solid, self.sheet, self.head = solid, sheet, head
        self.stays, self.fails = stays, min(fails, MOST_FAILS)
        self._middle = np.average(solid.points, axis=0, weights=solid.areas)
        self._known: dict[tuple[float, ...], np.ndarray] = {}

    def times(self, way: Way) -> np.ndarray:
        """(n,) how many frames of a way see each place of the solid."""
        eyes, lamps = eyes_of(way, self.head, self._middle, self.sheet.baseline_mm)
        keys = [tuple(np.round(np.append(e, lamp), 3).tolist()) for e, lamp in zip(eyes, lamps, strict=True)]
        new = [k for k, key in enumerate(keys) if key not in self._known]
        if new:
            lit = lamps[new] if self.sheet.baseline_mm else None
            seen = seen_by(self.solid, eyes[new], self.sheet.grazing_deg, self.sheet.band_mm, lit)
            self._known |= {keys[k]: row for k, row in zip(new, seen, strict=True)}
        return np.sum([self._known[key] for key in keys], axis=0)

    def share(self, way: Way) -> float:
        """Share (0-1) of the solid's surface that a way will measure at least once."""
        areas = self.solid.areas
        reached = float(areas @ (1 - self.fails ** self.times(way)) / areas.sum())
        return reached * (1 - self.stays)

    def best(self, wanted: float) -> tuple[Way, float]:
        """The cheapest way that measures the wanted share of what answers, else the one that sees most; and its share."""
        most: tuple[Way, float] | None = None
        for way in ways_of(self.sheet):
            seen = self.share(way)
            if seen >= wanted * (1 - self.stays):
                return way, seen
            if most is None or seen > most[1]:
                most = way, seen
        return most


def ways_of(sheet: Instrument) -> list[Way]:
    """The ways an instrument offers, the cheapest first."""
    if sheet.kind == "two_axis":
        paths = [(name, preset_path(name)) for name in RINGS]
        single = [Way(f"path “{name}”", (Pose(0.0, path),)) for name, path in sorted(paths, key=lambda p: len(p[1]))]
        both = [
            Way(f"{way.words}, then once more on its head", (*way.passes, Pose(180.0, way.passes[0].stops)))
            for way in single
        ]
        return single + both[1:2]
    out = [Way(f"a turn of {n} stops", (Pose(0.0, turn_path(n)),)) for n in TURNS]
    for n in (12, 24):
        laid = [Pose(tip, turn_path(n)) for tip in TIPS]
        first = Pose(0.0, turn_path(n))
        out.append(Way(f"{n} stops upright and {n} lying on its front", (first, laid[0])))
        out.append(Way(f"{n} stops upright and {n} upside down", (first, laid[1])))
        out.append(Way(f"{n} stops upright, {n} on its front, {n} on its back", (first, laid[0], laid[2])))
    return sorted(out, key=lambda way: way.frames)
