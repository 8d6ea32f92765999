"""Trim borders: pixels off every open border and grazing rim."""

from dataclasses import dataclass, replace
from typing import TypedDict

import numpy as np

from lucid_relic.errors import ParameterError, quoted
from lucid_relic.geometry.depth_map import frame_map
from lucid_relic.geometry.masks import all_kept
from lucid_relic.geometry.rims import pixels_off_rim, spacings_off_rim
from lucid_relic.operations.chosen import chosen_passes
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.preview import Preview
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.operations.shown import shown_points
from lucid_relic.operations.words import change
from lucid_relic.progress import Progress, part_of
from lucid_relic.types import PassState, ScanState


@dataclass(frozen=True, kw_only=True)
class TrimBordersParameters(Parameters):
    pixels: int = param(2, "How many pixels go off each border", unit="px", low=1, high=30)
    passes: tuple[str, ...] | None = param(None, "Only these passes; all when left out", kind="passes")


class TrimBordersReport(TypedDict):
    """Points before and after."""

    points_before: int
    points_after: int


def _headline(report: Report) -> str:
    return change(report["points_before"], report["points_after"])


def _preview(state: ScanState, params: TrimBordersParameters) -> Preview:
    shown = shown_points(state, chosen_passes(state, params.passes))
    rims = [view.rim for view in shown.views] or [np.zeros(0, np.uint8)]
    flags = np.concatenate(rims) <= params.pixels
    counts = sum((view.rims.astype(np.int64) for view in shown.views), np.zeros(256, np.int64))
    figures = {"points_before": int(counts.sum()), "points_after": int(counts[params.pixels + 1 :].sum())}
    return Preview(figures, shown.layers(flags))


@operation(
    "trim_borders",
    title="Ragged borders",
    stage="clean",
    key="Alt+R",
    weight=3,
    needs=(Need.PASSES,),
    parameters=TrimBordersParameters,
    headline=_headline,
    preview=_preview,
)
def trim_borders(
    state: ScanState, params: TrimBordersParameters, progress: Progress
) -> tuple[ScanState, TrimBordersReport]:
    """Take pixels off every border where measuring ended, and off rims before what lies behind them."""
    before = after = 0
    chosen = chosen_passes(state, params.passes)
    for k, n in enumerate(chosen):
        scan = state.passes[n]
        part = part_of(progress, k / len(chosen), (k + 1) / len(chosen))
        keep, had, has = _trimmed(scan, params.pixels, part)
        if not has:
            raise ParameterError(f"{params.pixels} pixels off each border leave nothing of {quoted(scan.title)}.")
        state = state.with_pass(n, replace(scan, keep=keep))
        before, after = before + had, after + has
    return state, {"points_before": before, "points_after": after}


def _trimmed(scan: PassState, pixels: int, progress: Progress) -> tuple[np.ndarray, int, int]:
    """Packed bits (n, bytes) of what is kept of a pass off its borders, and the points before and after."""
    old = all_kept(scan) if scan.keep is None else scan.keep
    if scan.cloud is not None:
        inside = spacings_off_rim(scan.cloud.cloud, scan.cloud.spacing_mm) > pixels
        kept = scan.kept_points()
        keep = old & np.packbits(inside)
        return (
            keep,
            len(inside) if kept is None else int(kept.sum()),
            int((inside if kept is None else inside & kept).sum()),
        )
    masks, before, after = [], 0, 0
    for index in range(scan.frame_count):
        progress(index / scan.frame_count, f"Trimming the borders of “{scan.title}”")
        surface = frame_map(scan, index)
        seen, inside = surface.confidence > 0, pixels_off_rim(surface) > pixels
        before, after = before + int(seen.sum()), after + int((seen & inside).sum())
        masks.append(old[index] & np.packbits(inside.ravel()))
    return np.stack(masks), before, after
