"""A pass on a turntable, in single shots or by hand, taken at the desk."""

import os
import threading
import time
from functools import partial
from typing import Any

from django.db import connection

from instruments import desk
from jobs.kinds.base import JobKind
from jobs.models import Job
from jobs.voice import Voice
from objects import actions, core_door
from objects.errors import Superseded
from objects.models import Capture

STOP_SECONDS = 0.9  # that a table needs between stops, as a real one does
ASK_SECONDS = 0.1  # between two looks whether a fault is put right, or a pause over
PAUSED = "Paused. Go on when you are ready; stepping back throws the newest frame away."
FIRST_SHOT = "Take the first shot."
NEXT_SHOT = "{count} in. Turn the object on by hand, about a tenth of a turn, and take the next."
HAND_PAUSED = "Paused. Go on when you are ready: aim at a place that was captured."
NOBODY = "Nobody looks on: it goes on as soon as the bench of this object is open."
BEHIND_THE_VIEW = 10  # niceness of a thread that follows a head
SWEEP_OVER = "The recorded sweep is over: stop and keep it, or step back."
STEP_BACK_FRAMES = 15  # that stepping back takes away by hand: a second
NOTE_SECONDS = 0.4  # between two words about a pass by hand
LAMP_COLD = "The lamp gives {share:.0%} of its light: it is still warming up, and colours will not be alike."


def run_capture(job: Job, voice: Voice) -> dict[str, Any]:
    """Take frame after frame until the plan or a wish ends the pass, behind those that an earlier attempt took.

    A pass that is to be looked at becomes one of the object only when it is accepted.
    """
    capture = capture_of(job)
    key, plan = str(capture.id), job.payload["plan"]
    started = time.perf_counter()
    lamp = ""
    if not core_door.is_whole(key):
        besides = desk.colour_of(plan.get("instrument", ""))
        if core_door.by_hand(plan):
            _take_by_hand(job, capture, voice, besides)
        else:
            lamp = _take_on_table(job, capture, voice, besides)
    _, capture.frames = core_door.capture_facts(key)
    if plan.get("shots") or core_door.by_hand(plan):
        capture.planned = capture.frames
    if plan.get("hold"):
        actions.hold_capture(capture, job.turn)
    else:
        actions.complete_capture(capture, job.who_id, job.turn, time.perf_counter() - started)
    return {"frames": capture.frames, **({"refused": [lamp]} if lamp else {})}


def _take_on_table(job: Job, capture: Capture, voice: Voice, besides: dict[str, Any]) -> str:
    """Take the frames of a table or of single shots; what is to be said of the lamp."""
    lamp = ""
    with core_door.turntable_pass(*_pass_of(job, capture, besides)) as taking:
        if isinstance(taking, core_door.ShotsUnderWay):
            _take_shots(job, capture, taking, voice)
        elif taking is not None:
            lamp = _take(job, capture, taking, voice)
    return lamp


def _pass_of(job: Job, capture: Capture, besides: dict[str, Any]) -> tuple[Any, ...]:
    """What a pass is opened with: model, plan, seed, key, attempt, who tells of faults, and what goes into the manifest."""
    plan = job.payload["plan"]
    fault = partial(desk.fault_of, plan.get("instrument", ""))
    return job.payload["model"], plan, job.payload["seed"], str(capture.id), job.attempts, fault, besides


def _take_by_hand(job: Job, capture: Capture, voice: Voice, besides: dict[str, Any]) -> None:
    """Follow the head until somebody ends the pass; a recorded sweep that is over waits for that."""
    noted = 0.0
    # Where browser and service share a machine, the view is not to wait for the frames.
    os.setpriority(os.PRIO_PROCESS, threading.get_native_id(), BEHIND_THE_VIEW)
    with core_door.hand_pass(*_pass_of(job, capture, besides)) as taking:
        while taking is not None and not (voice.listen(0.0).finish and taking.count):
            taking.do_wishes()
            while voice.step_back_wished():
                taking.step_back(max(taking.count - STEP_BACK_FRAMES, 1) - 1)
            if voice.heard.pause or not taking.watched:
                voice.wait_because(HAND_PAUSED if voice.heard.pause else NOBODY)
                voice.listen(ASK_SECONDS)
                continue
            try:
                going = taking.take()
            except core_door.DeviceFault as broken:
                voice.wait_because(str(broken))
                voice.listen(ASK_SECONDS)
                continue
            voice.wait_because("" if going else SWEEP_OVER)
            if not going:
                voice.listen(ASK_SECONDS)
            elif time.perf_counter() - noted > NOTE_SECONDS:
                noted = time.perf_counter()
                _note(job, capture, taking.count)
                voice.tell(0.0, taking.words)


def _take(job: Job, capture: Capture, taking: core_door.PassUnderWay, voice: Voice) -> str:
    """Take the frames of a path, and look ahead beside it; what is to be said of the lamp."""
    outlook = threading.Thread(target=_look_ahead, args=(job, capture, job.payload["plan"]), daemon=True)
    lamp = _take_path(job, capture, taking, voice, outlook)
    if outlook.ident is not None:
        outlook.join()  # it reads what is moved to its place next
    return lamp


def _take_path(
    job: Job, capture: Capture, taking: core_door.PassUnderWay, voice: Voice, outlook: threading.Thread
) -> str:
    planned = job.payload["planned"]
    lamp = ""
    begun = time.perf_counter()
    while taking.count < planned:
        fields = _shot(taking, voice)
        if fields is None:
            break
        if fields.get("lamp", 1.0) < core_door.WARM_ENOUGH:
            lamp = LAMP_COLD.format(share=fields["lamp"])
        _note(job, capture, taking.count)
        enough = taking.count >= core_door.OUTLOOK_STOPS and job.payload["plan"].get("instrument")
        if enough and outlook.ident is None:
            outlook.start()
        voice.begin_step(taking.count, planned, "Taking frames")
        voice.tell(taking.count / planned, lamp or f"Stop {taking.count} of {planned}")
        if taking.count == planned:
            break
        pause = job.payload.get("pause", _pause(job.payload["plan"], time.perf_counter() - begun))
        if voice.finish_wished(pause) or _stood_still(job, capture, taking, voice):
            break
        begun = time.perf_counter()
    return lamp


def _take_shots(job: Job, capture: Capture, taking: core_door.ShotsUnderWay, voice: Voice) -> None:
    """Take a shot whenever one is wished, until the pass is ended; a refused one says why and is taken again."""
    voice.wait_because(FIRST_SHOT if not taking.count else NEXT_SHOT.format(count=taking.count))
    while taking.count < taking.planned:
        if voice.finish_wished(ASK_SECONDS) and taking.count:
            return
        if voice.step_back_wished() and taking.count:
            taking.step_back()
        elif voice.shot_wished():
            voice.tell(0.0, "Measuring")
            try:
                if _shot(taking, voice) is None:
                    return
            except core_door.StepNotPossible as refused:
                voice.begin_step(taking.count, taking.planned, f"{taking.count} shots")
                voice.wait_because(str(refused))
                continue
        else:
            continue
        _note(job, capture, taking.count)
        voice.begin_step(taking.count, taking.planned, f"{taking.count} shots")
        voice.wait_because(NEXT_SHOT.format(count=taking.count))


def _shot(taking: core_door.PassUnderWay, voice: Voice) -> dict[str, Any] | None:
    """Take a frame as soon as the instrument does what it is asked; None when the pass is to end before."""
    while True:
        try:
            fields = taking.shoot()
            voice.wait_because("")
            return fields
        except core_door.DeviceFault as fault:
            voice.wait_because(str(fault))
            if voice.finish_wished(ASK_SECONDS) and taking.count:
                voice.wait_because("")
                return None


def _stood_still(job: Job, capture: Capture, taking: core_door.PassUnderWay, voice: Voice) -> bool:
    """Stand still and step back as long as that is wished; whether the pass is to end there."""
    while voice.heard.pause or voice.heard.back:
        while voice.step_back_wished():
            if taking.count:
                taking.step_back()
                _note(job, capture, taking.count)
                voice.begin_step(taking.count, job.payload["planned"], "One stop back")
        if not voice.heard.pause:
            break
        voice.wait_because(PAUSED)
        if voice.finish_wished(ASK_SECONDS) and taking.count:
            return True
    voice.wait_because("")
    return False


def _note(job: Job, capture: Capture, frames: int) -> None:
    with actions.acting_job(job.scan_object_id, job.turn):
        Capture.objects.filter(pk=capture.id).update(frames=frames)


def _look_ahead(job: Job, capture: Capture, plan: dict[str, Any]) -> None:
    """Note what the pass will see, as its first stops tell it; beside the pass, which does not wait for it."""
    try:
        told = core_door.outlook(str(capture.id), plan)
        with actions.acting_job(job.scan_object_id, job.turn):
            Capture.objects.filter(pk=capture.id).update(outlook=told)
    except (Superseded, OSError, core_door.LucidRelicError):
        pass  # the pass ended or was thrown away meanwhile: nobody waits for its outlook
    finally:
        connection.close()


def _pause(plan: dict[str, Any], taken: float) -> float:
    """Seconds until the next stop of a stand-in that took its picture faster than a real one."""
    return max(core_door.seconds_per_stop(plan) - taken, 0.0) if plan.get("instrument") else STOP_SECONDS


def capture_of(job: Job) -> Capture:
    """The capture of a job, made again when it was stopped and is run once more."""
    facts = {"title": job.payload["title"], "planned": job.payload.get("planned", 0)}
    with actions.acting_job(job.scan_object_id, job.turn) as scan_object:
        return Capture.objects.get_or_create(pk=job.payload["capture"], scan_object=scan_object, defaults=facts)[0]


def drop_capture(job: Job) -> None:
    """Remove what a stopped or refused capture left behind."""
    actions.drop_capture(job.scan_object_id, job.payload["capture"], job.turn)


def forget_capture(job: Job) -> None:
    """Remove the empty capture of a job that never began."""
    Capture.objects.filter(pk=job.payload["capture"], state=Capture.State.LIVE, frames=0).delete()


CAPTURE = JobKind("capture", run_capture, drop_capture, forget_capture, at_desk=True)
