"""Recipes, single operations, and earlier steps that are done again with other numbers."""

from collections.abc import Callable
from typing import Any

from jobs.kinds.base import JobKind
from jobs.models import Job
from jobs.voice import Voice
from objects import actions, core_door
from objects.actions import FinishedStep
from objects.models import ScanObject, Step
from objects.selectors import usual_seconds

STUCK = "“{title}” cannot be done again here: {why} All before it is kept as the branch “{name}”."


class _Steps:
    """The steps of a job under way, each recorded as it ends: computed, known from before, or a pass that came in."""

    def __init__(self, job: Job, voice: Voice) -> None:
        self._job, self._voice = job, voice
        self.steps: list[dict[str, Any]] = job.payload["steps"]
        self.at = self.finished = Step.objects.filter(job=job.id).count()
        self._head = ScanObject.objects.select_related("head").get(pk=job.scan_object_id).head
        self._before = self._head and self._head.id
        self._refused: list[str] = []

    def run(self) -> dict[str, Any]:
        """Run what is left; after an interruption the finished ones are not repeated."""
        state = core_door.load(self._head.manifest if self._head else None)
        usual = core_door.expected_seconds(self.steps, usual_seconds(self._job.scan_object_id, self.steps))
        self._voice.tell_usual(usual)
        core_door.run_steps(
            state, self.steps, self._voice.tell, self._record, self._begin, self.finished, self._recall, usual
        )
        return {"not_placed": self._refused}

    def _begin(self, number: int, total: int, title: str) -> None:
        self.at = number - 1
        self._voice.begin_step(number, total, title)

    def _done(self, number: int, report: dict[str, Any], seconds: float) -> FinishedStep:
        return FinishedStep(self.steps[number], report, seconds, self._job.who_id, self._job.turn, number)

    def _record(self, number: int, state: Any, report: dict[str, Any], seconds: float) -> None:
        self._take(actions.record_step(
            self._job.scan_object_id, self._before, state, self._done(number, report, seconds)
        ))  # fmt: skip

    def _recall(self, number: int, _: object) -> Callable[[], Any] | None:
        """A way to what is known of a step, which is recorded then; None when it is to be computed."""
        object_id, done = self._job.scan_object_id, self._done(number, {}, 0.0)
        if self.steps[number]["operation"] == actions.ADDED:
            step = actions.add_again(object_id, self._before, self.steps[number]["after"], done)
        else:
            step = actions.recalled_step(object_id, self._before, done)
        if step is None:
            return None
        self._take(step)
        return lambda: core_door.load(step.after.manifest)

    def _take(self, step: Step) -> None:
        self._before = step.after_id
        self._refused = step.report.get("not_placed", self._refused)
        self._voice.note(core_door.told_of(step.operation, step.title, step.report, step.known))


def run_steps(job: Job, voice: Voice) -> dict[str, Any]:
    """Run the payload's steps."""
    return _Steps(job, voice).run()


def run_replay(job: Job, voice: Voice) -> dict[str, Any]:
    """Do steps again from an earlier state, as a branch; what cannot be done again ends it, and what was done stays.

    Raises what the first step raises.
    """
    actions.begin_replay(job.scan_object_id, job.payload["from"], job.payload["name"], job.turn)
    steps = _Steps(job, voice)
    try:
        return steps.run()
    except core_door.LucidRelicError as error:
        if not Step.objects.filter(job=job.id).exists():
            raise
        stuck = steps.steps[steps.at]
        sentence = STUCK.format(title=stuck["title"], why=error, name=job.payload["name"])
        return {"refused": [sentence], "stuck": steps.at}


def _take_back(job: Job) -> None:
    actions.take_back_replay(job.scan_object_id, job.turn, job.payload["back"])


RECIPE = JobKind("recipe", run_steps)
OPERATION = JobKind("operation", run_steps)
REPLAY = JobKind(
    "replay", run_replay, _take_back, repeatable=lambda job: actions.can_go_on(job.id),
    instead="The branch of this replay was thrown away. Change the step once more.",
)  # fmt: skip
