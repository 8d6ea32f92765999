"""The map of marker dots that the frames of a pass made, and where a frame is by the dots it sees.

A frame's dots are told apart by where they are expected, or, when that is not known, by their distances from each other:
two dots as far apart as two of the map propose a third, and the most that agree win. Its place is the weighted least
squares over all that agree, across and along the rays as sure as each is.
"""

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree

from lucid_relic.geometry.rigid import fit_rigid, inverse, shifts_of, small_motion, transform_points
from lucid_relic.markers.in_space import LEAST, SpaceDots, firm

WANTED = 6  # dots that one wishes to have in view
NEAR_MM = 6.0  # from where a dot is expected
AGREE_MM = 0.6  # between a dot and its place in the map
MOST = 0.6  # of the known dots in reach of where a frame is expected that must agree
LEAST_FOUND = 4  # dots that must agree where nothing was expected
CLEARLY = 1  # more dots than for any other place
SAME_DEG, SAME_MM = 2.0, 30.0  # nearer two poses are one
FEW_PAIRS = 60  # of a frame's dots that are tried, the longest first
ROUNDS = 4
SETTLES = 6
SEEN_OFTEN = 2  # frames that saw a dot of the map


@dataclass(frozen=True)
class Held:
    """A frame held by dots: pose camera → map, which dot of the map each of its own is (-1: none yet), rms (mm) over them."""

    pose: np.ndarray
    which: np.ndarray
    rms_mm: float

    @classmethod
    def new(cls, count: int) -> "Held":
        """The first frame: where everything is measured from, its dots all new."""
        return cls(np.eye(4), np.full(count, -1), 0.0)

    @property
    def count(self) -> int:
        """How many dots hold it."""
        return int((self.which >= 0).sum())


class Constellation:
    """Dots in the frame of a pass; `learn` takes a frame's dots in, `held` places a frame by those that are known.

    points (n, 3) mm and number (n,), -1 without one, change as frames come.
    """

    def __init__(self) -> None:
        self.points = np.zeros((0, 3))
        self.number = np.zeros(0, int)
        self._sum = np.zeros((0, 4))
        self._seen: dict[int, tuple[SpaceDots, np.ndarray]] = {}

    def __len__(self) -> int:
        return len(self.points)

    def held(self, dots: SpaceDots, expected: Iterable[np.ndarray] = ()) -> Held | None:
        """Where a frame is by its dots: near one of the poses that are expected, else anywhere; None when they do not say."""
        if len(dots) < LEAST or len(self) < LEAST:
            return None
        for pose in expected:
            near = self._agreed(dots, pose, NEAR_MM)
            if near is not None:
                return near
        return self._searched(dots)

    def learn_at(self, frame: int, dots: SpaceDots, pose: np.ndarray) -> np.ndarray:
        """Take the dots of a frame in whose pose is known; returns (n,) which dot of the map each is."""
        which = self._paired(dots, pose, NEAR_MM) if len(self) and len(dots) else np.full(len(dots), -1)
        return self.learn(frame, dots, Held(pose, which, 0.0)).which

    def learn(self, frame: int, dots: SpaceDots, held: Held) -> Held:
        """Take a placed frame's dots into the map; those that were not known are new. Returns which dot is which now."""
        which, places = held.which.copy(), transform_points(held.pose, dots.points)
        for k in np.flatnonzero(which < 0):
            # Beside a known dot it is that one, seen badly: it makes no new one.
            if len(self) and np.linalg.norm(self.points - places[k], axis=1).min() < NEAR_MM:
                continue
            which[k] = len(self)
            self.points = np.vstack([self.points, places[k]])
            self.number = np.append(self.number, dots.number[k])
            self._sum = np.vstack([self._sum, np.zeros(4)])
        # A number may be read only when a dot is seen from nearer.
        told = (which >= 0) & (dots.number >= 0)
        self.number[which[told]] = dots.number[told]
        self._seen[frame] = (dots, which)
        self._count_in(dots, which, held.pose)
        return Held(held.pose, which, held.rms_mm)

    def seen_often(self) -> "Constellation":
        """The map of those dots alone that at least two frames saw; glints seen once are none."""
        often = np.zeros(len(self), int)
        for _, which in self._seen.values():
            np.add.at(often, which[which >= 0], 1)
        good = often >= min(SEEN_OFTEN, len(self._seen))
        out = Constellation()
        out.points, out.number, out._sum = self.points[good], self.number[good], self._sum[good]
        return out

    def forget(self, frames: Iterable[int], poses: dict[int, np.ndarray]) -> None:
        """Forget what some frames saw; poses are those of the others. Dots that no other frame saw go with them."""
        for frame in frames:
            self._seen.pop(frame, None)
        self._mean_anew(poses)

    def settle(self, poses: dict[int, np.ndarray]) -> dict[int, np.ndarray]:
        """Map and poses made to agree as well as they can, the first frame staying; returns the poses of the frames that saw dots."""
        settled = {f: poses[f] for f in self._seen if f in poses}
        if not settled:
            return {}
        first = min(settled)
        for _ in range(SETTLES):
            self._mean_anew(settled)
            for frame in settled:
                dots, which = self._seen[frame]
                on = which >= 0
                if frame != first and on.sum() >= LEAST:
                    settled[frame] = _least_squares(dots, on, self.points[which[on]], settled[frame], 1)
        return settled

    def _agreed(self, dots: SpaceDots, start: np.ndarray, reach_mm: float) -> Held | None:
        """The dots that lie near known ones as seen from a start, and the pose by them."""
        pose = start
        for reach in (reach_mm, reach_mm / 2, AGREE_MM):
            which = self._paired(dots, pose, reach)
            on = which >= 0
            if not firm(dots.points[on]):
                return None
            pose = fit_rigid(dots.points[on], self.points[which[on]])
        pose = _least_squares(dots, on, self.points[which[on]], pose)
        which = self._paired(dots, pose, AGREE_MM)
        on = which >= 0
        # What was expected holds only where most of the known dots in reach of it agree.
        if not firm(dots.points[on]) or on.sum() < MOST * (self._paired(dots, start, reach_mm) >= 0).sum():
            return None
        pose = _least_squares(dots, on, self.points[which[on]], pose)
        rest = transform_points(pose, dots.points[on]) - self.points[which[on]]
        return Held(pose, which, float(np.sqrt((rest**2).sum(axis=1).mean())))

    def _paired(self, dots: SpaceDots, pose: np.ndarray, reach_mm: float) -> np.ndarray:
        """Which dot of the map each lies nearest to, both ways; -1 beyond the reach, or where the numbers differ."""
        away, which = cKDTree(self.points).query(transform_points(pose, dots.points), distance_upper_bound=reach_mm)
        which = np.where(np.isfinite(away), which, -1)
        for k in np.flatnonzero(which >= 0):
            a, b = dots.number[k], self.number[which[k]]
            rivals = np.flatnonzero(which == which[k])
            if (a >= 0 and b >= 0 and a != b) or (len(rivals) > 1 and away[k] > away[rivals].min()):
                which[k] = -1
        return which

    def _searched(self, dots: SpaceDots) -> Held | None:
        """Where a frame is by the distances of its dots from each other; None where too few agree, or at two places as well."""
        proposed = [h for h in (self._agreed(dots, p, AGREE_MM * 2) for p in self._proposals(dots)) if h is not None]
        if not proposed:
            return None
        best = max(proposed, key=lambda h: (h.count, -h.rms_mm))
        rivals = [h for h in proposed if not _same(h.pose, best.pose)]
        if best.count < LEAST_FOUND or any(h.count > best.count - CLEARLY for h in rivals):
            return None
        return best

    def _proposals(self, dots: SpaceDots) -> list[np.ndarray]:
        """Poses by three dots each whose distances are those of three of the map."""
        own, known = _distances(dots.points), _distances(self.points)
        a, b = np.triu_indices(len(dots), 1)
        order = np.argsort(-own[a, b])[:FEW_PAIRS]
        out: list[np.ndarray] = []
        for i, j in zip(a[order], b[order], strict=True):
            k = int(np.argmax(np.minimum(own[i], own[j])))
            tri = dots.points[[i, j, k]]
            if not firm(tri):
                continue
            for p, q in np.argwhere(np.abs(known - own[i, j]) < AGREE_MM):
                thirds = np.flatnonzero(
                    (np.abs(known[p] - own[i, k]) < AGREE_MM) & (np.abs(known[q] - own[j, k]) < AGREE_MM)
                )
                for r in thirds:
                    pose = fit_rigid(tri, self.points[[p, q, r]])
                    if not any(_same(pose, o) for o in out[-20:]):
                        out.append(pose)
        return sorted(out, key=lambda p: -(self._paired(dots, p, 2 * AGREE_MM) >= 0).sum())[:12]

    def _count_in(self, dots: SpaceDots, which: np.ndarray, pose: np.ndarray) -> None:
        on = which >= 0
        weight = 1 / (dots.sigma[on] ** 2).sum(axis=1)
        places = transform_points(pose, dots.points[on])
        np.add.at(self._sum, which[on], np.column_stack([places * weight[:, None], weight]))
        known = self._sum[:, 3] > 0
        self.points[known] = self._sum[known, :3] / self._sum[known, 3:]

    def _mean_anew(self, poses: dict[int, np.ndarray]) -> None:
        self._sum[:] = 0.0
        for frame, (dots, which) in self._seen.items():
            if frame in poses:
                self._count_in(dots, which, poses[frame])
        kept = self._sum[:, 3] > 0
        if not kept.all():
            renamed = np.append(np.where(kept, np.cumsum(kept) - 1, -1), -1)
            self.points, self.number, self._sum = self.points[kept], self.number[kept], self._sum[kept]
            self._seen = {f: (dots, renamed[which]) for f, (dots, which) in self._seen.items()}


def _least_squares(
    dots: SpaceDots, on: np.ndarray, places: np.ndarray, pose: np.ndarray, rounds: int = ROUNDS
) -> np.ndarray:
    """The pose by which dots lie best on their places, across and along their rays by how sure each is."""
    own, sigma = dots.points[on], dots.sigma[on]
    along = own / np.linalg.norm(own, axis=1, keepdims=True)
    for _ in range(rounds):
        back = inverse(pose)
        rest = transform_points(back, places) - own
        spread = np.einsum("ni,nj->nij", along, along)
        weight = (np.eye(3) - spread) / sigma[:, :1, None] ** 2 + spread / sigma[:, 1:, None] ** 2
        # A small motion of the frame before its pose moves what it sees the other way.
        jacobian = shifts_of(own + rest)
        normal = np.einsum("nai,nab,nbj->ij", jacobian, weight, jacobian)
        right = np.einsum("nai,nab,nb->i", jacobian, weight, rest)
        pose = pose @ small_motion(np.linalg.lstsq(normal, right, rcond=None)[0])
    return pose


def _distances(points: np.ndarray) -> np.ndarray:
    return np.linalg.norm(points[:, None] - points[None], axis=2)


def _same(a: np.ndarray, b: np.ndarray) -> bool:
    turn = np.degrees(np.arccos(np.clip((np.trace(a[:3, :3].T @ b[:3, :3]) - 1) / 2, -1, 1)))
    return bool(turn < SAME_DEG and np.linalg.norm(a[:3, 3] - b[:3, 3]) < SAME_MM)
