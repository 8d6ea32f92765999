"""Operations of the stage Align."""

from dataclasses import dataclass, replace
from typing import Any

from lucid_relic.alignment.find_fit import place_passes
from lucid_relic.alignment.settle import settle as settle_passes
from lucid_relic.errors import StepNotPossible
from lucid_relic.geometry.pass_points import pass_points
from lucid_relic.operations.clean import pixel_spacing
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.registry import operation
from lucid_relic.progress import Progress, part_of
from lucid_relic.types import ScanState

BY_COLOUR = "told_by_colour"  # among the state's notes


@dataclass(frozen=True, kw_only=True)
class FindFitParameters(Parameters):
    again: bool = param(False, "Place all passes anew, also those that are placed already")


@operation("find_fit", "Find fit", "align", FindFitParameters)
def find_fit(state: ScanState, params: FindFitParameters, progress: Progress) -> tuple[ScanState, dict[str, Any]]:
    """Place the passes on each other from any position, and say how far the fit can be trusted."""
    if not state.passes:
        raise StepNotPossible("There is no pass yet. Capture or import one first.")
    passes = state.passes
    if params.again:
        passes = tuple(replace(p, placed=False) for p in passes)
    coloured = all(p.colour_in_depth_view(0) is not None for p in passes)
    clouds = []
    for n, scan in enumerate(passes):
        progress(0.2 * n / len(passes), f"Gathering the points of “{scan.title}”")
        clouds.append(pass_points(scan, 1.2 * pixel_spacing(scan), coloured=coloured))
    passes, tried = place_passes(passes, clouds, part_of(progress, 0.2, 1.0))
    fits = [
        {
            "fixed": passes[j].title,
            "moving": passes[i].title,
            "accepted": fit.accepted,
            "reason": fit.reason,
            "overlap": fit.overlap,
            "rms_mm": fit.rms_mm,
            "contradiction": fit.contradiction,
            "rival": fit.rival,
            "by_colour": fit.by_colour,
        }
        for j, i, fit in tried
    ]
    by_colour = any(fit.accepted and fit.by_colour for _, _, fit in tried)
    return replace(state, passes=passes, notes={**state.notes, BY_COLOUR: by_colour}), {
        "fits": fits,
        "placed": [p.title for p in passes if p.placed],
        "not_placed": [p.title for p in passes if not p.placed],
    }


@dataclass(frozen=True, kw_only=True)
class SettleParameters(Parameters):
    drop_bad: bool = param(True, "Leave out frames that fit three times worse than the others")
    held_by: str = param(
        "auto",
        "What holds the frames: shape, or colour too. Auto takes colour where only colour told the fit",
        choices=("auto", "shape", "colour"),
    )


@operation("settle", "Settle", "align", SettleParameters)
def settle(state: ScanState, params: SettleParameters, progress: Progress) -> tuple[ScanState, dict[str, Any]]:
    """Refine all frames of all placed passes together."""
    index = [n for n, p in enumerate(state.passes) if p.placed]
    if not index:
        raise StepNotPossible("No pass is placed yet. Find the fit first.")
    placed = tuple(state.passes[n] for n in index)
    coloured = params.held_by == "colour" or (params.held_by == "auto" and bool(state.notes.get(BY_COLOUR)))
    result = settle_passes(placed, progress, drop_bad=params.drop_bad, coloured=coloured)
    for n, scan in zip(index, result.passes, strict=True):
        state = state.with_pass(n, scan)
    frames = sum(int(p.frame_in.sum()) for p in result.passes)
    return state, {
        "frames": frames,
        "by_colour": coloured,
        "rms_before_mm": result.rms_before_mm,
        "rms_mm": result.rms_after_mm,
        "left_out": [{"pass": title, "frame": i} for title, i in result.dropped],
        "residuals": [
            {
                "pass": before.title,
                "frames": before.frames_used(),
                "before_mm": was,
                "after_mm": after.fit_mm[before.frames_used()],
            }
            for before, was, after in zip(placed, result.frames_before_mm, result.passes, strict=True)
        ],
    }
