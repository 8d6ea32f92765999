"""Passes switched off and on: an object is tried without some of them, and what that costs is told."""

from dataclasses import dataclass, replace
from typing import TypedDict

import numpy as np

from lucid_relic.errors import StepNotPossible
from lucid_relic.geometry.cells import shared_areas
from lucid_relic.operations.chosen import chosen_passes
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.operations.shown import AREA_SPACINGS, ShownPoints, shown_points
from lucid_relic.progress import Progress
from lucid_relic.types import ScanState


@dataclass(frozen=True, kw_only=True)
class SwitchPassesParameters(Parameters):
    off: tuple[str, ...] = param((), "The passes that are off; all others are on", kind="passes")


class SwitchPassesReport(TypedDict):
    """Which passes are off and on now, the surface (cm²) that those on saw, and that only those off did."""

    off: list[str]
    on: list[str]
    seen_cm2: float
    lost_cm2: float


def _headline(report: Report) -> str:
    if not report["off"]:
        return "all on"
    return f"{len(report['off'])} off, {report['lost_cm2']:.1f} cm² less seen"


@operation(
    "switch_passes",
    title="Passes off and on",
    stage="align",
    key="Alt+C",
    weight=0.5,
    needs=(Need.PASSES,),
    parameters=SwitchPassesParameters,
    headline=_headline,
    all_passes=True,
)
def switch_passes(
    state: ScanState, params: SwitchPassesParameters, progress: Progress
) -> tuple[ScanState, SwitchPassesReport]:
    """Switch passes off, so that nothing is worked out of them, or on again; nothing of them is lost."""
    off = set(chosen_passes(state, params.off or ()))
    if len(off) == len(state.passes):
        raise StepNotPossible("With every pass off there would be nothing to work on. Leave one of them on.")
    placed = [n for n, p in enumerate(state.passes) if p.placed]
    shown = shown_points(state, placed, progress)
    on = [k for k, n in enumerate(placed) if n not in off]
    whole, rest = _seen_mm2(shown, range(len(placed))), _seen_mm2(shown, on)
    passes = tuple(replace(p, off=n in off) for n, p in enumerate(state.passes))
    return replace(state, passes=passes), {
        "off": [p.title for p in passes if p.off],
        "on": [p.title for p in passes if not p.off],
        "seen_cm2": round(rest / 100, 2),
        "lost_cm2": round(max(whole - rest, 0.0) / 100, 2),
    }


def _seen_mm2(shown: ShownPoints, which: "range | list[int]") -> float:
    """Surface that some of the shown passes saw; what several saw counts once."""
    clouds = [shown.views[k].cloud.points for k in which]
    if not any(len(c) for c in clouds):
        return 0.0
    return float(np.sum(shared_areas(clouds, AREA_SPACINGS * shown.spacing_mm)))
