"""What a hand marked: taken away, kept alone, set aside to align by, and brought back."""

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import TypedDict

import numpy as np

from lucid_relic.errors import ParameterError, StepNotPossible, quoted
from lucid_relic.geometry.masks import PixelMask, without
from lucid_relic.operations.chosen import chosen_passes
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.preview import Preview
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.operations.shown import shown_points
from lucid_relic.operations.words import change, count
from lucid_relic.progress import Progress, part_of
from lucid_relic.selection.marked import marked_pixels
from lucid_relic.types import Marks, PassState, ScanState

EVERYWHERE = Marks(invert=True)  # nothing, turned round
NOTHING = "Nothing is marked of {}. Mark something in the view first."


@dataclass(frozen=True, kw_only=True)
class MarkedParameters(Parameters):
    marks: Marks = param(Marks(), "What is meant, as strokes in views", kind="marks")
    passes: tuple[str, ...] | None = param(None, "Only these passes; all when left out", kind="passes")


@dataclass(frozen=True, kw_only=True)
class BringBackParameters(MarkedParameters):
    marks: Marks | None = param(None, "Where; everywhere when left out", kind="marks")
    what: str = param(
        "set_aside", "What was set aside, what was taken away, or both", choices=("set_aside", "taken", "both")
    )


MarkedPass = TypedDict("MarkedPass", {"pass": str, "marked": int, "points_before": int, "points_after": int})


class MarkedReport(TypedDict):
    """Per pass how many points were marked, and how many count for the surface before and after."""

    passes: list[MarkedPass]


def _headline(report: Report) -> str:
    passes = report["passes"]
    return change(sum(p["points_before"] for p in passes), sum(p["points_after"] for p in passes))


def _aside_headline(report: Report) -> str:
    return f"{count(sum(p['marked'] for p in report['passes']))} set aside"


def _back_headline(report: Report) -> str:
    return f"{count(sum(p['points_after'] - p['points_before'] for p in report['passes']))} back"


def _preview(state: ScanState, params: MarkedParameters) -> Preview:
    """What is marked of the points that are shown."""
    shown = shown_points(state, chosen_passes(state, params.passes))
    flags = shown.marked(params.marks)
    return Preview(shown.counted(flags), shown.layers(flags))


def _found(state: ScanState, params: MarkedParameters, progress: Progress) -> list[tuple[int, PixelMask]]:
    """The chosen passes with what is marked of each; raises `StepNotPossible` when that is nothing."""
    chosen = chosen_passes(state, params.passes)
    shown = shown_points(state, chosen, part_of(progress, 0.0, 0.3))
    marking = shown.marking(params.marks)
    found = []
    for k, n in enumerate(chosen):
        part = part_of(progress, 0.3 + 0.7 * k / len(chosen), 0.3 + 0.7 * (k + 1) / len(chosen))
        found.append((n, marked_pixels(state.passes[n], marking, part)))
    if not any(mask.chosen for _, mask in found):
        names = ", ".join(quoted(state.passes[n].title) for n in chosen) or "no pass"
        raise StepNotPossible(NOTHING.format(names))
    return found


def _each(
    state: ScanState,
    params: MarkedParameters,
    progress: Progress,
    changed: Callable[[PassState, PixelMask], tuple[PassState, int]],
) -> tuple[ScanState, MarkedReport]:
    """Change every chosen pass by what is marked of it; `changed` gives it anew, and how many points then count."""
    passes: list[MarkedPass] = []
    for n, mask in _found(state, params, progress):
        scan = state.passes[n]
        after, left = changed(scan, mask)
        if after is not scan:
            state = state.with_pass(n, after)
        passes.append({"pass": scan.title, "marked": mask.chosen, "points_before": mask.usable, "points_after": left})
    return state, {"passes": passes}


@operation(
    "take_away",
    title="Take away",
    stage="clean",
    key="Alt+A",
    weight=3,
    needs=(Need.PASSES,),
    parameters=MarkedParameters,
    headline=_headline,
    preview=_preview,
)
def take_away(state: ScanState, params: MarkedParameters, progress: Progress) -> tuple[ScanState, MarkedReport]:
    """Take away what is marked; nothing is deleted, it can be brought back."""

    def less(scan: PassState, mask: PixelMask) -> tuple[PassState, int]:
        if mask.chosen == mask.usable > 0:
            raise ParameterError(f"Nothing would be left of {quoted(scan.title)}. Mark less, or hide the pass.")
        left = mask.usable - mask.chosen
        return (replace(scan, keep=without(scan, mask.bits)), left) if mask.chosen else (scan, left)

    return _each(state, params, progress, less)


@operation(
    "keep_only",
    title="Keep only this",
    stage="clean",
    key="Alt+O",
    weight=3,
    needs=(Need.PASSES,),
    parameters=MarkedParameters,
    headline=_headline,
    preview=_preview,
)
def keep_only(state: ScanState, params: MarkedParameters, progress: Progress) -> tuple[ScanState, MarkedReport]:
    """Keep what is marked, and take all else of these passes away."""

    def alone(scan: PassState, mask: PixelMask) -> tuple[PassState, int]:
        if not mask.chosen:
            raise ParameterError(
                f"Nothing is marked of {quoted(scan.title)}, so nothing of it would be left. Hide it, or mark it too."
            )
        return replace(scan, keep=mask.bits), mask.chosen

    return _each(state, params, progress, alone)


@operation(
    "set_aside",
    title="Set aside",
    stage="clean",
    key="Alt+Z",
    weight=3,
    needs=(Need.PASSES,),
    parameters=MarkedParameters,
    headline=_aside_headline,
    preview=_preview,
)
def set_aside(state: ScanState, params: MarkedParameters, progress: Progress) -> tuple[ScanState, MarkedReport]:
    """Make what is marked scaffold: passes are aligned by it, the surface is made without it."""

    def aside(scan: PassState, mask: PixelMask) -> tuple[PassState, int]:
        left = mask.usable - mask.chosen
        bits = mask.bits if scan.scaffold is None else scan.scaffold | mask.bits
        return (replace(scan, scaffold=bits), left) if mask.chosen else (scan, left)

    return _each(state, params, progress, aside)


@operation(
    "bring_back",
    title="Bring back",
    stage="clean",
    key="Alt+B",
    weight=3,
    needs=(Need.PASSES,),
    parameters=BringBackParameters,
    headline=_back_headline,
)
def bring_back(state: ScanState, params: BringBackParameters, progress: Progress) -> tuple[ScanState, MarkedReport]:
    """Bring back what was set aside or taken away, everywhere or where it is marked."""
    chosen = chosen_passes(state, params.passes)
    marking = shown_points(state, chosen, part_of(progress, 0.0, 0.3)).marking(params.marks or EVERYWHERE)
    passes: list[MarkedPass] = []
    for k, n in enumerate(chosen):
        scan = state.passes[n]
        part = part_of(progress, 0.3 + 0.7 * k / len(chosen), 0.3 + 0.7 * (k + 1) / len(chosen))
        mask = marked_pixels(scan, marking, part, cleaned=False)
        back = _brought_back(scan, mask.bits, params.what)
        before, after = (_count(p.without_scaffold(), mask.bits) for p in (scan, back))
        if after > before:
            state = state.with_pass(n, back)
        passes.append({"pass": scan.title, "marked": mask.chosen, "points_before": before, "points_after": after})
    if all(p["points_before"] == p["points_after"] for p in passes):
        raise StepNotPossible("There is nothing to bring back there.")
    return state, {"passes": passes}


def _brought_back(scan: PassState, bits: np.ndarray, what: str) -> PassState:
    """A pass with what was set aside or taken away among some packed bits as if it never had been."""
    keep, scaffold = scan.keep, scan.scaffold
    if what != "set_aside" and keep is not None:
        keep = keep | bits
    if what != "taken" and scaffold is not None:
        rest = scaffold & ~bits
        scaffold = rest if rest.any() else None
    return replace(scan, keep=keep, scaffold=scaffold)


def _count(scan: PassState, bits: np.ndarray) -> int:
    """How many of some packed bits count for the surface."""
    kept = bits if scan.keep is None else scan.keep & bits
    return int(np.bitwise_count(kept).sum())
