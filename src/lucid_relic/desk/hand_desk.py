"""A hand-held pass at the desk: what became of the newest frame, what is captured, what to do next, in one sentence."""

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np

from lucid_relic.alignment.views import STRIDE, FrameView
from lucid_relic.cleaning.stand import plate_in
from lucid_relic.desk.sight import distance_hill
from lucid_relic.errors import StepNotPossible
from lucid_relic.geometry.rigid import transform_points, upright
from lucid_relic.markers.constellation import WANTED
from lucid_relic.planning.coverage import Enough
from lucid_relic.planning.frontier import Frontier, Move
from lucid_relic.tracking import verdict
from lucid_relic.tracking.live_pass import LivePass, Recall
from lucid_relic.tracking.model import NEAR
from lucid_relic.tracking.places import middle_of
from lucid_relic.tracking.quick_view import grip_of
from lucid_relic.tracking.verdict import Followed
from lucid_relic.types import Instrument, PointCloud, TriangleMesh

JUDGE_EVERY = 8  # frames between two looks at what is still missing
FLOOR_PLACES = 4  # places after which the floor is looked for
FLOOR_SPACINGS = 3.0  # above it that the object begins
LOOKED_AT = 60  # points of each place that tell how far the object reaches
GROWN_CELLS = 2.0  # that the object outgrows its grid before it is made anew
NEAR_SHARE = 0.06  # of the slot's width beside its borders from which the head is asked away from them
HURRIED = 0.6  # of the pace that can be followed
ENOUGH_SHARE = 0.95  # of what can be reached
WORTH_TURN = 0.01  # of what can be reached: a turn that added less adds nothing
WORTH_MOVE = 0.004
FEW_MOVES = 3
APART_DEG = 30.0  # between moves that are told beside each other: nearer ones see the same
HERE_DEG = 10.0  # between two places of the head, as seen from the object, that count as the same
IN_VAIN = 3  # looks in a row from where the most is to be gained, after which it is not expected any more
RIM = np.arange(-4, 5)  # beside each point of the outline


@dataclass(frozen=True)
class Next:
    """Where to hold the head next: turns round the object (degrees, to the head's left) and up, and the shift up (mm)."""

    left_deg: float
    up_deg: float
    higher_mm: float
    gain: float
    common: float
    eye: np.ndarray

    def words(self) -> str:
        """In the imperative."""
        parts = []
        if abs(self.left_deg) >= 8:
            parts.append(f"go round to the {'left' if self.left_deg > 0 else 'right'} by {abs(self.left_deg):.0f}°")
        if abs(self.higher_mm) >= 8:
            parts.append(f"{'raise' if self.higher_mm > 0 else 'lower'} it by {abs(self.higher_mm):.0f} mm")
        text = ", ".join(parts) or "hold it here a little longer"
        return text[0].upper() + text[1:]


class HandDesk:
    """Follows the frames of a pass with an instrument and judges what is captured for a use."""

    def __init__(self, sheet: Instrument, recall: Recall, need: Enough, by_markers: bool = False) -> None:
        self.sheet, self.need = sheet, need
        self._recall = recall
        self.live = LivePass(sheet.camera, recall, by_markers=by_markers)
        self.counts = {"in": 0, "lost": 0, "found": 0}
        self.newest: Followed | None = None
        self.lost: dict[int, Followed] = {}
        self.enough = 0.0
        self.nexts: list[Next] = []
        self._in_vain: list[np.ndarray] = []
        self._stood_there = 0
        self.turned_deg = 0.0
        self.last_turn: float | None = None
        self._view: FrameView | None = None
        self._spacing_mm = 1.0
        self._frontier: Frontier | None = None
        self._looked: dict[int, FrameView] = {}
        self._looks: dict[int, int] = {}
        self._floor: np.ndarray | None = None
        self._shown: np.ndarray | None = None
        self.stood = 0
        self._after_turns: list[tuple[float, float]] = []
        self._side: float | None = None
        self._judged_at = -JUDGE_EVERY

    # -- frames ------------------------------------------------------------------------------------------------------

    def take(self, index: int, depth: np.ndarray, image: np.ndarray | None) -> Followed:
        """Follow a frame and, every few frames, judge what is captured."""
        followed = self.live.push(index, depth, image)
        self.newest = followed
        self._view = self.live.newest.view if self.live.newest is not None else None
        if self._view is not None:
            self._spacing_mm = self._view.spacing_mm or self._spacing_mm
        self.counts["in" if followed.placed else "lost"] += 1
        if not followed.placed:
            self.lost[index] = followed
        self.counts["found"] += followed.found
        if followed.placed:
            self._know_place(index)
            self._count_turn(followed)
            if index - self._judged_at >= JUDGE_EVERY:
                self._judged_at = index
                self._judge(followed)
        return followed

    def step_back(self, frame: int) -> None:
        """Forget what came after a frame."""
        self.live.step_back(frame)
        self.lost = {i: f for i, f in self.lost.items() if i <= frame}
        self._judge_anew(frame)

    def take_out(self, first: int, last: int) -> None:
        """Take the frames first … last out; they can be brought back."""
        gone = [i for i in self.live.poses if first <= i <= last]
        self.live.drop(first, last)
        self.lost |= {i: Followed(i, verdict.LOST, verdict.TAKEN_OUT) for i in gone}
        self._judge_anew(max(self.live.poses, default=0))

    def bring_back(self, first: int, last: int) -> None:
        """Follow the frames between first … last that were taken out once more."""
        for i in [i for i, f in self.lost.items() if f.reason == verdict.TAKEN_OUT and first <= i <= last]:
            followed = self.live.late(i, *self._recall(i))
            if followed.placed:
                del self.lost[i]
        self._judge_anew(max(self.live.poses, default=0))

    def _judge_anew(self, newest: int) -> None:
        """Count the frames, and forget what was thought to be missing."""
        self._looked = {i: v for i, v in self._looked.items() if i in self.live.poses}
        self._looks = {i: n for i, n in self._looks.items() if i in self.live.poses}
        self._frontier, self._judged_at = None, newest - JUDGE_EVERY
        self.counts |= {"in": len(self.live.poses), "lost": len(self.lost)}
        self.nexts, self._in_vain = [], []

    def _know_place(self, index: int) -> None:
        """Count a frame as a look from its place: when the grid is made anew, places stand for all their frames."""
        places = self.live.places
        if not places or self._view is None:
            return
        if places[-1].frame == index:
            # Of very many places some are given up: their views go with them.
            views = {**self._looked, index: self._view}
            self._looked = {p.frame: views[p.frame] for p in places if p.frame in views}
        place = places[-1].frame
        self._looks[place] = self._looks.get(place, 0) + 1
        if self._frontier is not None:
            _look(self._frontier, self._view, self.live.poses[index])

    # -- what is captured --------------------------------------------------------------------------------------------

    def _judge(self, followed: Followed) -> None:
        frontier = self._grown_frontier()
        if frontier is None or followed.pose is None:
            return
        self.enough, moves = frontier.moves(self.sheet, self.need)
        self._stand_there(frontier.way_to(followed.pose[:3, 3]), moves, frontier)
        moves = [m for m in moves if m.gain >= WORTH_MOVE and not _near_any(frontier.way_to(m.eye), self._in_vain)]
        self.nexts = [self._next(move, followed.pose, frontier) for move in _distinct(moves, frontier)]
        self._after_turns.append((self.turned_deg, self.enough))
        before = [share for turned, share in self._after_turns if turned <= self.turned_deg - 360]
        self.last_turn = self.enough - before[-1] if before else None

    def _stand_there(self, here: np.ndarray, moves: list[Move], frontier: Frontier) -> None:
        """Give up what a place promises for which the head was held there and which did not come."""
        best = next((w for w in (frontier.way_to(m.eye) for m in moves) if not _near_any(w, self._in_vain)), None)
        there = best is not None and _near_any(best, [here])
        self._stood_there = self._stood_there + 1 if there else 0
        if best is not None and self._stood_there >= IN_VAIN:
            self._in_vain.append(best)
            self._stood_there = 0

    def _grown_frontier(self) -> Frontier | None:
        """The grid around what is captured, made anew when the object outgrew it or the floor was found."""
        index = [i for i in self._looked if i in self.live.poses]
        if not index:
            return None
        some = [_some_points(self._looked[i], self.live.poses[i]) for i in index]
        points, normals = (np.concatenate([part[k] for part in some]) for k in range(2))
        if self._floor is None and len(index) >= FLOOR_PLACES:
            self._floor = _floor_of(points, normals, self._spacing_mm)
            if self._floor is not None:
                self._frontier = self._shown = None
        if self._floor is not None:
            points = points[points @ self._floor[:3] - self._floor[3] > FLOOR_SPACINGS * self._spacing_mm]
        if len(points) < 20:
            return None
        low, high = np.percentile(points, 0.5, axis=0), np.percentile(points, 99.5, axis=0)
        old = self._frontier
        if old is not None and not old.outgrown(low, high, GROWN_CELLS):
            return old
        if old is not None:
            low, high = np.minimum(low, old.within[0]), np.maximum(high, old.within[1])
        self._frontier, self._in_vain = Frontier(low, high, self._up(), self._floor), []
        for i in index:
            _look(self._frontier, self._looked[i], self.live.poses[i], self._looks.get(i, 1))
        return self._frontier

    def _up(self) -> np.ndarray:
        """(3,) the upright direction: the floor's, or as the head is held at first."""
        if self._floor is not None:
            return self._floor[:3]
        down = np.radians(self.sheet.elevation_deg)
        return np.array([0.0, -np.cos(down), -np.sin(down)])

    def _next(self, move: Move, pose: np.ndarray, frontier: Frontier) -> Next:
        around, up, height = frontier.bearing(move.eye)
        here_around, here_up, here_height = frontier.bearing(pose[:3, 3])
        # Round to the left of a head that looks at the object is clockwise seen from above.
        left = -((around - here_around + 180) % 360 - 180)
        return Next(left, up - here_up, height - here_height, move.gain, move.common, move.eye)

    def _count_turn(self, followed: Followed) -> None:
        """Count how far round the object the head has gone."""
        if self._frontier is None or followed.pose is None:
            return
        side, _, _ = self._frontier.bearing(followed.pose[:3, 3])
        if self._side is not None:
            self.turned_deg += abs((side - self._side + 180) % 360 - 180)
        self._side = side

    # -- what is shown -----------------------------------------------------------------------------------------------

    @property
    def T_shown_pass(self) -> np.ndarray:
        """(4, 4) the pass stood upright, as it is shown; changed once, when the floor is found (`stood` counts that)."""
        if self._shown is None and self._view is not None:
            middle = self._frontier.middle if self._frontier else middle_of(self._view)
            floor = 0.0 if self._floor is None else float(middle @ self._floor[:3] - self._floor[3])
            found = upright(self._up(), middle - floor * self._up())
            self._shown = np.eye(4) if found is None else found
            self.stood += 1
        return np.eye(4) if self._shown is None else self._shown

    def line(self) -> str:
        """The one sentence that is spoken: what is wrong just now, else what to do next."""
        newest = self.newest
        if newest is None:
            return "Aim at the object and begin."
        if not newest.placed:
            return verdict.REASONS[newest.reason or verdict.TOO_FAST]
        low, high = self.sheet.band_mm
        distance, margin = self.distance_mm(), NEAR_SHARE * (high - low)
        if distance is not None and distance < low + margin:
            return f"Back off by {low + margin - distance + 10:.0f} mm"
        if distance is not None and distance > high - margin:
            return f"Nearer by {distance - high + margin + 10:.0f} mm"
        if newest.speed > HURRIED:
            return "Slower: hold the pace in the rail"
        if newest.state == verdict.WEAK:
            return verdict.REASONS[newest.reason or verdict.NO_GRIP]
        if self.enough >= ENOUGH_SHARE:
            return "It is enough. Finish the pass, or look closer."
        return self.nexts[0].words() if self.nexts else "Go on round the object"

    def distance_mm(self) -> float | None:
        """How far off what is seen lies; None when nothing is."""
        view = self._view
        return float(np.median(view.points[:, 2])) if view is not None and len(view.points) else None

    def figures(self, frames_per_s: float) -> dict[str, Any]:
        """All that is told beside the view, as plain JSON; frames_per_s is the device's rate."""
        newest = self.newest
        adds_nothing = self.last_turn is not None and self.last_turn < WORTH_TURN
        return {
            "frame": newest.frame if newest else -1,
            "stood": self.stood,
            "state": newest.state if newest else "",
            "reason": newest.reason if newest else "",
            "line": self.line(),
            "counts": dict(self.counts),
            "slips": [list(s) for s in self.live.slips],
            "runs": runs_of(self.live.poses),
            "out": runs_of(i for i, f in self.lost.items() if f.reason == verdict.TAKEN_OUT),
            "drift_mm": self.live.drift_mm,
            "residual_mm": newest.fit.residual_mm if newest and newest.fit else None,
            "pace": min(newest.speed, 2.0) if newest else 0.0,
            "pace_mm_s": self._pace_mm_s(frames_per_s),
            "enough": self.enough,
            "enough_reached": self.enough >= ENOUGH_SHARE,
            "nexts": [{"words": n.words(), "gain": n.gain, "common": n.common} for n in self.nexts],
            "last_turn": self.last_turn,
            "adds_nothing": adds_nothing,
            "grip": self._grip(),
            "markers": self._markers(),
            **distance_hill(np.zeros(0) if self._view is None else self._view.points[:, 2], self.sheet),
        }

    def _pace_mm_s(self, frames_per_s: float) -> float:
        if self.newest is None or self._view is None:
            return 0.0
        return self.newest.speed * NEAR[0] * self._view.spacing_mm * frames_per_s

    def _grip(self) -> dict[str, Any] | None:
        view = self._view
        if view is None or len(view.points) < 6:
            return None
        held = grip_of(view)
        up = None
        if self.newest is not None and self.newest.pose is not None:
            up = self.newest.pose[:3, :3].T @ self._up()
        return {
            "slide": held.slide.round(3).tolist(), "turn": held.turn.round(3).tolist(), "axes": held.axes.round(3).tolist(),
            "weak": held.words(up),
        }  # fmt: skip

    def _markers(self) -> dict[str, int] | None:
        """How many markers hold the newest frame, are seen, known and wanted; None where something else holds the pass."""
        if self.live.dots is None:
            return None
        held = self.newest.dots if self.newest else 0
        return {"held": held, "seen": len(self.live.newest_dots), "known": len(self.live.dots), "wanted": WANTED}

    def dots_shown(self) -> np.ndarray:
        """(n, 3) float32 the markers that are known, as they are shown."""
        known = np.zeros((0, 3)) if self.live.dots is None else self.live.dots.points
        return transform_points(self.T_shown_pass, known).astype(np.float32)

    def outline(self) -> np.ndarray:
        """(n, 3) float32 closed line, spanned evenly, around what the newest frame sees of the object, as it is shown; empty when lost."""
        newest, view = self.newest, self._view
        if newest is None or newest.pose is None or view is None:
            return np.zeros((0, 3), np.float32)
        seen = view.confidence > 0
        points = np.dstack([view.rays * view.fitted[..., None], view.fitted])
        T = newest.pose
        if self._floor is not None:
            high = (points @ T[:3, :3].T + T[:3, 3]) @ self._floor[:3] - self._floor[3]
            seen = seen & (high > FLOOR_SPACINGS * view.spacing_mm)
        lines, _ = cv2.findContours(seen.astype(np.uint8), cv2.RETR_EXTERNAL, cv2.CHAIN_APPROX_NONE)
        if not lines:
            return np.zeros((0, 3), np.float32)
        u, v = max(lines, key=len)[:, 0].T
        # At the rim distances are the least sure: each is the middle of those around it on the line.
        near = np.median(view.fitted[v, u][(np.arange(len(u))[:, None] + RIM) % len(u)], axis=1)
        line = np.column_stack([view.rays[v, u] * near[:, None], near])
        out = self.T_shown_pass @ T
        return (line @ out[:3, :3].T + out[:3, 3]).astype(np.float32)

    def head_shown(self) -> np.ndarray | None:
        """(4, 4) where the head is, as it is shown; None when it is lost."""
        newest = self.newest
        return None if newest is None or newest.pose is None else self.T_shown_pass @ newest.pose

    def next_shown(self) -> np.ndarray | None:
        """(2, 3) eye of the next move and the place it aims at, as they are shown; None when there is none."""
        if not self.nexts or self._frontier is None:
            return None
        T = self.T_shown_pass
        return np.stack([self.nexts[0].eye, self._frontier.middle]) @ T[:3, :3].T + T[:3, 3]

    def mesh_shown(self, plainly: bool = False) -> tuple[TriangleMesh, np.ndarray]:
        """The model so far as it is shown, with a quarter of the triangles plainly, and (n,) float32 0-1 how well each of its
        vertices was seen."""
        if self.live.model is None:
            raise StepNotPossible("There is nothing to show before the first frame.")
        volume = self.live.model.volume
        net = volume.plain_net() if plainly else volume.net()
        vertices = net.vertices.astype(np.float64)
        level = np.zeros(len(vertices), np.float32)
        if self._frontier is not None:
            level = self._frontier.level_at(vertices, self.need)
        faces = net.faces
        if self._floor is not None:
            above = vertices @ self._floor[:3] - self._floor[3] > FLOOR_SPACINGS * self._spacing_mm
            faces = faces[above[faces].all(axis=1)]
        T = self.T_shown_pass
        shown = (vertices @ T[:3, :3].T + T[:3, 3]).astype(np.float32)
        return TriangleMesh(shown, faces, net.colours), level


def _look(frontier: Frontier, view: FrameView, pose: np.ndarray, count: int = 1) -> None:
    frontier.look(pose, view.cam, STRIDE, view.fitted, view.normals, count)


def _some_points(view: FrameView, pose: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Some points and normals of a view, in the pass's frame."""
    every = slice(None, None, max(len(view.points) // LOOKED_AT, 1))
    return view.points[every] @ pose[:3, :3].T + pose[:3, 3], view.point_normals[every] @ pose[:3, :3].T


def _floor_of(points: np.ndarray, normals: np.ndarray, spacing_mm: float) -> np.ndarray | None:
    """(4,) the plane that an object stands on; None when it is not seen."""
    cloud = PointCloud(points.astype(np.float32), normals.astype(np.float32))
    try:
        return plate_in(cloud, spacing_mm).plane
    except StepNotPossible:
        return None


def _distinct(moves: list[Move], frontier: Frontier) -> list[Move]:
    """The best moves that do not see the same: at least a third of a right angle apart."""
    kept: list[Move] = []
    for move in moves:
        if not _near_any(frontier.way_to(move.eye), [frontier.way_to(k.eye) for k in kept], APART_DEG):
            kept.append(move)
        if len(kept) == FEW_MOVES:
            break
    return kept


def _near_any(way: np.ndarray, others: list[np.ndarray], within_deg: float = HERE_DEG) -> bool:
    """Whether a direction (3,) of length 1 is near any of some others."""
    return any(way @ other > np.cos(np.radians(within_deg)) for other in others)


def runs_of(frames: Iterable[int]) -> list[list[int]]:
    """[first, last] of every run of consecutive frames."""
    index = np.sort(np.fromiter(frames, np.int64))
    if not len(index):
        return []
    breaks = np.flatnonzero(np.diff(index) > 1)
    return np.column_stack([index[np.r_[0, breaks + 1]], index[np.r_[breaks, -1]]]).tolist()
