"""Passes by hand that are being taken: frames followed as they come, the head steered, all of it shown meanwhile.

A pass under way is known in the process that takes it, so that its live lane answers out of what the desk thread told last.
"""

import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import asdict, replace
from typing import Any

import numpy as np

from lucid_relic.capture.device import ControlChannel
from lucid_relic.capture.faults import need_answer
from lucid_relic.capture.instruments import instrument, traits_of
from lucid_relic.capture.steered import CALM_PER_S, FASTEST_PER_S, SWEEPS, HeadPlace, SteeredHead, place_in
from lucid_relic.capture.virtual import TurntablePlan
from lucid_relic.demo.objects import demo_model
from lucid_relic.desk.hand_desk import HandDesk
from lucid_relic.errors import ParameterError, StepNotPossible
from lucid_relic.io.capture_folder import frame_lines
from lucid_relic.io.capture_writer import CaptureWriter
from lucid_relic.io.results import finite
from lucid_relic.planning.coverage import enough_for
from lucid_relic.types import Camera, Instrument, Shutter
from lucid_relic.view.packing import pack_preview
from objects.core_door.captures import attempt_at
from objects.core_door.desk import dots_of, shutter_of, title_of

SWEEP_NAMES = tuple(SWEEPS)
MESH_SECONDS = 0.5  # between two drawings of the model
WATCHED_SECONDS = 20.0
PLAIN_SECONDS = 2.0  # that a page is remembered which cannot draw the whole model fast enough
RATE_SHARE = 0.1  # of the newest frame, in the mean of frames a second
PHOTO_PIXELS = 240  # the longest side of the photograph that is shown
SWEEP_AWAY_MM = 300.0  # that recorded sweeps were held off
MOVES = ("around_deg", "up_deg", "away_mm", "aside_mm", "above_mm", "roll_deg", "table_deg")
MOST_MOVED = 720.0  # degrees or mm that one word of steering may ask for
_under_way: dict[str, "HandUnderWay"] = {}


def hand_sheet(set_up: dict[str, Any]) -> Instrument:
    """The sheet of a hand head; its pixels are joined two by two while it is followed, unless fine ones are asked for."""
    sheet = instrument(set_up["instrument"])
    if sheet.kind != "hand":
        raise ParameterError(f"The {sheet.title.lower()} is not held in the hand.")
    c = sheet.camera
    return sheet if set_up.get("fine") else replace(sheet, camera=Camera.centred(c.width // 2, c.height // 2, c.fx / 2))


class Reins:
    """Where the hand is steered to, or where a recorded sweep has it; safe to use from several threads."""

    def __init__(self, sweep: str, begun_s: float) -> None:
        self._lock = threading.Lock()
        self._goal = HeadPlace()
        self._sweep, self._begun_s, self._farther_mm = sweep, begun_s, 0.0
        self._calm = False

    def hold_off(self, away_mm: float) -> None:
        """Hold the head so far off."""
        self._farther_mm = away_mm - SWEEP_AWAY_MM
        self.move({"away_mm": away_mm - self._goal.away_mm})

    def __call__(self, seconds: float) -> HeadPlace | None:
        if self._sweep:
            place = place_in(self._sweep, seconds + self._begun_s)
            return place and replace(place, away_mm=place.away_mm + self._farther_mm)
        return self.goal

    @property
    def goal(self) -> HeadPlace:
        """Where the hand is steered to."""
        with self._lock:
            return self._goal

    def most_per_s(self) -> float:
        """How fast the hand moves at the most."""
        return CALM_PER_S if self._calm else FASTEST_PER_S

    def go_to(self, place: HeadPlace) -> None:
        """Go to a place calmly."""
        with self._lock:
            self._goal, self._calm = place.checked(), True

    def move(self, moves: dict[str, float], covered: bool | None = None) -> None:
        """Steer on from where the hand is steered to; raises `ParameterError` for what cannot be."""
        for name, value in moves.items():
            if name not in MOVES or not np.isfinite(value) or abs(value) > MOST_MOVED:
                raise ParameterError("This is not a way to move the head.")
        with self._lock:
            changed = {name: getattr(self._goal, name) + value for name, value in moves.items()}
            if covered is not None:
                changed["covered"] = covered
            self._goal, self._calm = replace(self._goal, **changed).checked(), False


class HandUnderWay:
    """A pass by hand that is being taken into the folder of one attempt."""

    def __init__(
        self, head: SteeredHead, reins: Reins, plan: dict[str, Any], writer: CaptureWriter, fault: Callable[[], str]
    ) -> None:
        sheet = hand_sheet(plan)
        self._title, self._fault, self._coloured = title_of(sheet.name), fault, plan.get("colour", True)
        self._writer, self._sheet, self._sweep = writer, sheet, plan.get("sweep") or ""
        by_markers = plan.get("held_by") == "markers"
        self._desk = HandDesk(sheet, writer.frame, enough_for(plan.get("use") or "print"), by_markers)
        self.control, self.reins, self._head = ControlChannel(), reins, head
        self._frames = head.frames(self.control)
        self._wishes: list[Callable[[], None]] = []
        self._watched_at = time.monotonic()
        self._plain_at = -PLAIN_SECONDS
        self._model = self._edition = -1
        self._shown: tuple[dict[str, Any], dict[str, np.ndarray], dict[str, np.ndarray]] = ({}, {}, {})
        self._drawn_at = 0.0
        self._rate = 0.0
        self._last_at = 0.0
        for index in range(writer.count):
            self._desk.take(index, *writer.frame(index))
        if writer.count:
            self._show(None)

    @property
    def count(self) -> int:
        """How many frames there are."""
        return self._writer.count

    @property
    def words(self) -> str:
        """What the pass is about just now, in a few words."""
        return self._desk.line()

    @property
    def watched(self) -> bool:
        """Whether anybody has looked on within the last seconds: a head that nobody follows takes no frames."""
        return time.monotonic() - self._watched_at < WATCHED_SECONDS

    def take(self) -> bool:
        """Take a frame and follow it; False when a recorded sweep is over. Raises `DeviceFault` when none can be taken."""
        need_answer(self._fault(), self._title, turning=False)
        shot = next(self._frames, None)
        if shot is None:
            return False
        index = self.count
        colour = shot.colour if self._coloured else None
        followed = self._desk.take(index, shot.depth, colour)
        told: dict[str, Any] = {"pose": followed.pose.tolist()} if followed.placed else {"lost": followed.reason}
        if self._desk.live.dots is not None:
            told["markers"] = self._desk.live.newest_dots.as_marks()
        self._writer.add(
            shot.depth,
            colour,
            clipped=round(shot.clipped, 4),
            time_s=round(index / self._sheet.frames_per_s, 4),
            **told,
        )
        self._count_rate()
        self._show(shot.colour, shot.clipped)
        return True

    def _count_rate(self) -> None:
        """Frames a second, averaged over the last ten or so."""
        now = time.perf_counter()
        if self._last_at:
            newest = 1 / max(now - self._last_at, 1e-3)
            self._rate += RATE_SHARE * (newest - self._rate) if self._rate else newest
        self._last_at = now

    def ask_back(self, frame: int) -> None:
        """Wish, from another thread, to step back to a frame; raises `ParameterError` when there is no such frame."""
        self._check(frame)
        self._wishes.append(lambda: self.step_back(frame))

    def ask_out(self, first: int, last: int, bring_back: bool = False) -> None:
        """Wish, from another thread, to take frames out of the pass, or to bring them back."""
        self._check(first, last)
        act = self._desk.bring_back if bring_back else self._desk.take_out
        self._wishes.append(lambda: self._reshaped(lambda: act(first, last)))

    def _check(self, *frames: int) -> None:
        if not all(0 <= frame < self.count for frame in frames) or list(frames) != sorted(frames):
            raise ParameterError("There are no such frames in this pass.")

    def do_wishes(self) -> None:
        """Do what was wished from elsewhere."""
        while self._wishes:
            self._wishes.pop(0)()

    def step_back(self, frame: int) -> None:
        """Forget what came after a frame; the model is as it was then."""
        self._writer.keep_first(frame + 1)
        self._reshaped(lambda: self._desk.step_back(frame))

    def _reshaped(self, act: Callable[[], None]) -> None:
        """Do what makes the model another one, and show that at once."""
        act()
        self._drawn_at = 0.0
        self._show(None)

    def finish(self) -> None:
        """Set the way right and write every frame's pose, in a frame that stands upright, or why it has none."""
        live = self._desk.live
        live.finish()
        stands = self._desk.T_shown_pass
        why = {i: f.reason for i, f in self._desk.lost.items()}
        self._writer.note({
            i: {"pose": (stands @ live.poses[i]).tolist(), "lost": None} if i in live.poses else {"pose": None, "lost": why.get(i) or "lost"}
            for i in range(self.count)
        })  # fmt: skip

    def _show(self, photo: np.ndarray | None, clipped: float = 0.0) -> None:
        """Tell the live lane what there is to see now."""
        desk = self._desk
        _, scene, model = self._shown
        now = time.perf_counter()
        if desk.live.model is not None and now - self._drawn_at > MESH_SECONDS:
            mesh, level = desk.mesh_shown(time.monotonic() - self._plain_at < PLAIN_SECONDS)
            model = {
                "vertices": mesh.vertices, "faces": mesh.faces.astype(np.uint32), "colours": mesh.colours,
                "level": np.round(255 * level).astype(np.uint8),
            }  # fmt: skip
            self._model, self._drawn_at = self._model + 1, now
        head, goal = desk.head_shown(), desk.next_shown()
        scene = {
            "photo": scene.get("photo", np.zeros((0, 0, 3), np.uint8)) if photo is None else _small(photo),
            "outline": desk.outline(),
            "head": np.zeros(0, np.float32) if head is None else head.astype(np.float32).ravel(),
            "next": np.zeros(0, np.float32) if goal is None else goal.astype(np.float32).ravel(),
            "dots": desk.dots_shown(),
        }
        figures = {
            **desk.figures(self._sheet.frames_per_s), "clipped": clipped, "frames_per_s": round(self._rate, 1),
            "frames": self.count, "place": asdict(self.reins.goal), "sweep": self._sweep,
        }  # fmt: skip
        self._edition += 1
        self._shown = ({**figures, "edition": self._edition}, scene, model)

    def scene(self, since: int, head: dict[str, Any], plainly: bool = False) -> bytes:
        """What there is to see, packed; the model only when it is a newer one than `since`, and plainly while that is asked for."""
        self._watched_at = time.monotonic()
        if plainly:
            self._plain_at = self._watched_at
        figures, scene, model = self._shown
        if not figures:
            raise StepNotPossible("The first frame is on its way.")
        layers: list[tuple[str, dict[str, Any], dict[str, np.ndarray]]] = [
            ("hand", {"photo": list(scene["photo"].shape)}, scene)
        ]
        if model and self._model > since:
            layers.append(("model", {}, model))
        return pack_preview(finite({**figures, "model": self._model}), layers, head)

    def take_next(self) -> None:
        """Go calmly to where the next frames gain most."""
        if self._desk.nexts:
            best, here = self._desk.nexts[0], self._head.place or self.reins.goal
            self.reins.go_to(
                replace(here, around_deg=here.around_deg - best.left_deg, up_deg=here.up_deg + best.up_deg)
            )


def _head_of(
    sheet: Instrument, shutter: Shutter, model_name: str, plan: dict[str, Any], seed: int, reins: Reins
) -> SteeredHead:
    lying = TurntablePlan(
        tip_deg=plan.get("tip_deg", 0.0),
        tip_about_deg=plan.get("tip_about_deg", 0.0),
        title=plan.get("title", "by hand"),
        dots=dots_of(plan),
    )
    exposure = (shutter.exposure_ms or sheet.exposure_ms[1:2])[0]
    head = SteeredHead(
        demo_model(model_name), reins, traits_of(sheet, shutter, exposure), lying, seed, sheet.frames_per_s,
        leaping=bool(plan.get("sweep")), most_per_s=reins.most_per_s,
    )  # fmt: skip
    reins.hold_off(head.distance_mm)
    return head


def _small(photo: np.ndarray) -> np.ndarray:
    step = max(photo.shape[1] // PHOTO_PIXELS, 1)
    return np.ascontiguousarray(photo[::step, ::step])


@contextmanager
def hand_pass(
    model_name: str, plan: dict[str, Any], seed: int, key: str, attempt: int,
    fault: Callable[[], str] = lambda: "", besides: dict[str, Any] | None = None,
) -> Iterator[HandUnderWay | None]:  # fmt: skip
    """A pass by hand into a capture folder, frame by frame, behind what an earlier attempt took; see `turntable_pass`."""
    with attempt_at(key, attempt) as target:
        if target is None:
            yield None
            return
        sheet = hand_sheet(plan)
        reins = Reins(plan.get("sweep") or "", len(frame_lines(target)) / sheet.frames_per_s)
        head = _head_of(sheet, shutter_of(plan).check(sheet), model_name, plan, seed, reins)
        writer = CaptureWriter(target, {**head.manifest(), **(besides or {}), "set_up": plan})
        taking = HandUnderWay(head, reins, plan, writer, fault)
        _under_way[key] = taking
        try:
            yield taking
        finally:
            taking.control.stop()
            _under_way.pop(key, None)
        taking.finish()
        writer.finish()


def hand_scene(key: str, since: int, head: dict[str, Any], plainly: bool = False) -> bytes:
    """What there is to see of a pass by hand; raises `StepNotPossible` when none is taken here under that key."""
    return _taken(key).scene(since, head, plainly)


def steer(
    key: str, moves: dict[str, float], take_next: bool = False, covered: bool | None = None, back_to: int | None = None,
    drop: tuple[int, int] | None = None, bring_back: tuple[int, int] | None = None,
) -> None:  # fmt: skip
    """Steer the head of a pass by hand, step back along its track, take frames out or bring them back."""
    taking = _taken(key)
    if back_to is not None:
        taking.ask_back(back_to)
    if drop is not None:
        taking.ask_out(*drop)
    if bring_back is not None:
        taking.ask_out(*bring_back, bring_back=True)
    if take_next:
        taking.take_next()
    elif moves or covered is not None:
        taking.reins.move(moves, covered=covered)


def _taken(key: str) -> HandUnderWay:
    taking = _under_way.get(key)
    if taking is None:
        raise StepNotPossible("This pass is not taken just now.")
    return taking
