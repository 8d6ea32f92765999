"""Find fit: place the passes on each other by themselves."""

from dataclasses import dataclass, replace
from typing import TypedDict

from lucid_relic.alignment.fit_result import FitResult
from lucid_relic.alignment.place_passes import place_passes
from lucid_relic.errors import quoted
from lucid_relic.geometry.pass_points import is_coloured, pass_points
from lucid_relic.geometry.spacing import pixel_spacing
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.operations.words import percent
from lucid_relic.progress import Progress, part_of
from lucid_relic.types import ScanState

BY_COLOUR = "told_by_colour"  # among the state's notes
POINT_SPACINGS = 1.2  # of the points gathered for the fit, in pixel spacings: one point for each pixel or so


@dataclass(frozen=True, kw_only=True)
class FindFitParameters(Parameters):
    again: bool = param(False, "Place all passes anew, also those that are placed already")
    colour: str = param(
        "auto",
        "Photographs tell turns apart that the shape leaves open; never: go by the shape alone, as where one pass was matted",
        choices=("auto", "never"),
    )
    allow_unplaced: bool = param(False, "In a recipe: go on without the passes that could not be placed")


class TriedFit(TypedDict):
    """One pair of passes that was tried, with what speaks for and against the fit."""

    fixed: str
    moving: str
    accepted: bool
    reason: str
    overlap: float
    rms_mm: float
    free_space_violation: float
    rival: float
    contradicted: float
    misfit: float
    by_colour: bool
    colours_differ: bool


class FindFitReport(TypedDict):
    """Every pair that was tried, and which passes are placed now."""

    fits: list[TriedFit]
    placed: list[str]
    not_placed: list[str]


def _headline(report: Report) -> str:
    if report["not_placed"]:
        return "not accepted"
    return ", ".join(f"common {percent(f['overlap'], 0)}" for f in report["fits"])


def _refusal(state: ScanState, params: FindFitParameters) -> str:
    left = [quoted(p.title) for p in state.passes if not (p.placed or p.off)]
    if not left or params.allow_unplaced:
        return ""
    return (
        f"Stopped after Find fit: {', '.join(left)} could not be placed. See why under Align and place by hand, "
        "or run again with “allow unplaced” to go on without."
    )


@operation(
    "find_fit",
    title="Find fit",
    stage="align",
    key="F",
    weight=4,
    needs=(Need.PASSES,),
    parameters=FindFitParameters,
    headline=_headline,
    refusal=_refusal,
)
def find_fit(state: ScanState, params: FindFitParameters, progress: Progress) -> tuple[ScanState, FindFitReport]:
    """Place the passes on each other from any position, and say how far the fit can be trusted."""
    passes = state.passes
    if params.again:
        passes = tuple(replace(p, placed=False) for p in passes)
    clouds = []
    for n, scan in enumerate(passes):
        part = part_of(progress, 0.2 * n / len(passes), 0.2 * (n + 1) / len(passes))
        spacing = POINT_SPACINGS * pixel_spacing(scan)
        coloured = params.colour != "never" and is_coloured(scan)
        clouds.append(pass_points(scan, spacing, coloured=coloured, progress=part))
    passes, tried = place_passes(passes, clouds, part_of(progress, 0.2, 1.0))
    fits = [_tried(passes[j].title, passes[i].title, fit) for j, i, fit in tried]
    by_colour = any(fit.accepted and fit.by_colour for _, _, fit in tried)
    return replace(state, passes=passes, notes={**state.notes, BY_COLOUR: by_colour}), {
        "fits": fits,
        "placed": [p.title for p in passes if p.placed],
        "not_placed": [p.title for p in passes if not p.placed],
    }


def _tried(fixed: str, moving: str, fit: FitResult) -> TriedFit:
    return {
        "fixed": fixed,
        "moving": moving,
        "accepted": fit.accepted,
        "reason": fit.reason,
        "overlap": fit.overlap,
        "rms_mm": fit.rms_mm,
        "free_space_violation": fit.free_space_violation,
        "rival": fit.rival,
        "contradicted": fit.contradicted,
        "misfit": fit.misfit,
        "by_colour": fit.by_colour,
        "colours_differ": fit.colours_differ,
    }
