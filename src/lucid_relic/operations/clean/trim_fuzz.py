"""Trim fuzz: noise that stands off the surface."""

from dataclasses import dataclass, replace
from typing import TypedDict

from lucid_relic.cleaning.fuzz import seen_through, trimmed_masks
from lucid_relic.geometry.spacing import pixel_spacing
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.preview import Preview
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.operations.shown import shown_points
from lucid_relic.operations.words import change
from lucid_relic.progress import Progress
from lucid_relic.types import PassState, ScanState

# The margin behind a point, when it is to be found: so many widths of the noise, so many pixel spacings, the larger.
# Nearer than that two good measurements of one slanting place contradict each other.
FUZZ_NOISES = 5.0
FUZZ_SPACINGS = 1.5


@dataclass(frozen=True, kw_only=True)
class TrimFuzzParameters(Parameters):
    margin_mm: float = param(
        0.0, "How far behind a point another frame must have seen; 0 finds it", unit="mm", low=0, high=20
    )


class TrimFuzzReport(TypedDict):
    """The margin used (mm), and points before and after."""

    margin_mm: float
    points_before: int
    points_after: int


def _headline(report: Report) -> str:
    return change(report["points_before"], report["points_after"])


def margin_of(passes: tuple[PassState, ...], params: TrimFuzzParameters) -> float:
    spacing = max(pixel_spacing(p) for p in passes)
    return params.margin_mm or max(FUZZ_NOISES * max(p.noise_mm for p in passes), FUZZ_SPACINGS * spacing)


def _preview(state: ScanState, params: TrimFuzzParameters) -> Preview:
    """What some looks say of the points that are shown; the step asks more of them, about every point."""
    index = [n for n, p in enumerate(state.passes) if p.placed]
    passes = tuple(state.passes[n] for n in index)
    margin = margin_of(passes, params)
    shown = shown_points(state, index)
    flags = seen_through(passes, shown.points, margin)
    before = int(shown.stands_for.sum())
    gone = int(shown.stands_for[flags].sum())
    return Preview({"margin_mm": margin, "points_before": before, "points_after": before - gone}, shown.layers(flags))


@operation(
    "trim_fuzz",
    title="Trim fuzz",
    stage="clean",
    key="Z",
    weight=6,
    needs=(Need.PLACED,),
    parameters=TrimFuzzParameters,
    headline=_headline,
    preview=_preview,
)
def trim_fuzz(state: ScanState, params: TrimFuzzParameters, progress: Progress) -> tuple[ScanState, TrimFuzzReport]:
    """Take away points that other frames looked through: torn edges, dust, rests of the stand."""
    index = [n for n, p in enumerate(state.passes) if p.placed]
    passes = tuple(state.passes[n] for n in index)
    margin = margin_of(passes, params)
    masks, before, after = trimmed_masks(passes, margin, progress)
    for n, mask in zip(index, masks, strict=True):
        state = state.with_pass(n, replace(state.passes[n], keep=mask))
    return state, {"margin_mm": margin, "points_before": before, "points_after": after}
