"""The registry of operations, from which interface, API and command line are derived."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from difflib import get_close_matches
from enum import Enum
from functools import wraps
from typing import Any

from lucid_relic.errors import ParameterError, StepNotPossible, quoted
from lucid_relic.memo import remembered
from lucid_relic.operations.parameters import Parameters
from lucid_relic.operations.preview import Preview
from lucid_relic.progress import Progress
from lucid_relic.types import ScanState

Report = Mapping[str, Any]
Run = Callable[[ScanState, Any, Progress], tuple[ScanState, Any]]
Refusal = Callable[[ScanState, Any], str]
MakePreview = Callable[[ScanState, Any], Preview]
NEAREST = 4  # names that are offered in place of one that is not known
STAGES = ("capture", "clean", "align", "fuse", "mend", "colour", "set", "deliver")


class Need(Enum):
    """What a state must have before an operation can work on it."""

    PASSES = "passes"
    POINTS = "points"
    PLACED = "placed"
    VOLUME = "volume"
    MESH = "mesh"
    TAKES = "takes"
    TEXTURE = "texture"

    def met_by(self, state: ScanState) -> bool:
        return _MET[self](state)

    @property
    def sentence(self) -> str:
        """What is missing, and what to do first."""
        return _MISSING[self]


_MET: dict[Need, Callable[[ScanState], bool]] = {
    Need.PASSES: lambda s: bool(s.passes),
    Need.POINTS: lambda s: any(p.cloud is not None for p in s.passes),
    Need.PLACED: lambda s: bool(s.used_passes()),
    Need.VOLUME: lambda s: s.volume is not None,
    Need.MESH: lambda s: s.mesh is not None,
    Need.TAKES: lambda s: bool(s.takes),
    Need.TEXTURE: lambda s: s.mesh is not None and s.mesh.texture is not None,
}
_MISSING = {
    Need.PASSES: "There is no pass yet. Capture or import one first.",
    Need.POINTS: "No pass came as points or a mesh. Bring such a scan in first.",
    Need.PLACED: "No pass is placed yet. Find the fit first.",
    Need.VOLUME: "Nothing is fused yet. Fuse first.",
    Need.MESH: "There is no mesh yet. Fuse first.",
    Need.TAKES: "There is no take yet: each fusion makes one. Fuse first.",
    Need.TEXTURE: "There is no texture yet. Lay colour first.",
}


@dataclass(frozen=True)
class Operation:
    """One act on data.

    name, the words people see, its stage and key; weight is its usual share of a recipe's time (a second of an
    ordinary object); needs are checked before it runs; headline makes the figures that say most of a report;
    preview, where there is one, shows within 300 ms what running would do, or, when it is not to be made early, with
    the state that is opened, in some seconds once it is asked for, and given the surface only when it says so; refusal says of the state after it why
    nothing should follow before somebody has looked, or nothing.
    """

    name: str
    title: str
    stage: str
    help: str
    key: str
    weight: float
    needs: tuple[Need, ...]
    parameters: type[Parameters]
    run: Run
    headline: Callable[[Report], str]
    preview: MakePreview | None = None
    refusal: Refusal | None = None
    preview_early: bool = True
    preview_surface: bool = False

    def missing(self, state: ScanState) -> Need | None:
        """The first need that a state does not meet, or None when the operation can run."""
        return next((need for need in self.needs if not need.met_by(state)), None)

    def headline_of(self, report: Report) -> str:
        """The headline of a report, or nothing for one written by an older version that lacks its figures."""
        try:
            return self.headline(report)
        except (KeyError, TypeError, IndexError):
            return ""


_REGISTRY: dict[str, Operation] = {}


def operation(
    name: str,
    *,
    title: str,
    stage: str,
    key: str,
    weight: float,
    needs: tuple[Need, ...],
    parameters: type[Parameters],
    headline: Callable[[Report], str],
    preview: MakePreview | None = None,
    refusal: Refusal | None = None,
    all_passes: bool = False,
    preview_early: bool = True,
    preview_surface: bool = False,
) -> Callable[[Run], Run]:
    """Register a function as an operation; the first line of its docstring is the help.

    It is given a state without the passes that are switched off, unless it asks for all_passes.

    Raises `TypeError` for what cannot be right: a name or key taken already, a stage that does not exist, parameters
    that are not made of `param` fields, a weight of nothing.
    """

    def register(run: Run) -> Run:
        parameters.check_definition()
        if stage not in STAGES or weight <= 0 or name in _REGISTRY or key in [o.key for o in _REGISTRY.values()]:
            raise TypeError(f"operation “{name}”: its name, key “{key}”, stage “{stage}” or weight cannot be right")
        text = (run.__doc__ or "").strip().splitlines()[0]

        @wraps(run)
        def checked(state: ScanState, params: Any, progress: Progress) -> tuple[ScanState, Any]:
            given = state if all_passes else _worked_on(state)
            require(given, needs)
            after, report = run(given, params, progress)
            return (after if all_passes else state.with_off(after)), report

        def shown(state: ScanState, params: Any) -> Preview:
            given = state if all_passes else _worked_on(state)
            require(given, needs)
            return preview(given, params)

        _REGISTRY[name] = Operation(
            name, title, stage, text, key, weight, needs, parameters, checked, headline,
            shown if preview else None, refusal, preview_early, preview_surface,
        )  # fmt: skip
        return checked

    return register


def _worked_on(state: ScanState) -> ScanState:
    """The state without what is switched off; the same one every time, so that what was worked out from it is kept."""
    return remembered(state, "worked on", state.without_off)


def require(state: ScanState, needs: tuple[Need, ...]) -> None:
    """Raise `StepNotPossible`, saying what to do first, when a state lacks something."""
    for need in needs:
        if not need.met_by(state):
            raise StepNotPossible(need.sentence)


def get_operation(name: str) -> Operation:
    """The operation of that name; raises `ParameterError` when there is none."""
    if name not in _REGISTRY:
        near = get_close_matches(name, _REGISTRY, n=NEAREST, cutoff=0.3)
        hint = f"the nearest are: {', '.join(near)}" if near else f"there are {len(_REGISTRY)}, such as fuse and close"
        raise ParameterError(f"There is no operation {quoted(name)}; {hint}.")
    return _REGISTRY[name]


def list_operations() -> list[Operation]:
    """All operations, by stage in the order of the work and within it in the order of their registration."""
    return sorted(_REGISTRY.values(), key=lambda o: STAGES.index(o.stage))
