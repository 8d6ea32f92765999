"""Trim borders: pixels off every open border and grazing rim."""

from dataclasses import dataclass, replace
from typing import TypedDict

import numpy as np

from lucid_relic.cleaning.witnesses import WITNESSES, confirmed
from lucid_relic.errors import ParameterError, quoted
from lucid_relic.geometry.depth_map import frame_map
from lucid_relic.geometry.masks import all_kept
from lucid_relic.geometry.rigid import transform_points
from lucid_relic.geometry.rims import pixels_off_rim, spacings_off_rim
from lucid_relic.operations.chosen import chosen_passes
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.preview import Preview
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.operations.shown import placed_apart, shown_points
from lucid_relic.operations.words import change
from lucid_relic.progress import Progress, part_of
from lucid_relic.types import PassState, ScanState

BLOCK = 64  # frames asked of the others at once
NO_PLACES = np.empty((0, 3))


@dataclass(frozen=True, kw_only=True)
class TrimBordersParameters(Parameters):
    pixels: int = param(2, "How many pixels go off each border", unit="px", low=1, high=30)
    spare: bool = param(True, "Keep what other frames saw at the same place")
    passes: tuple[str, ...] | None = param(None, "Only these passes; all when left out", kind="passes")


class TrimBordersReport(TypedDict):
    """Points before and after."""

    points_before: int
    points_after: int


def _headline(report: Report) -> str:
    return change(report["points_before"], report["points_after"])


def _preview(state: ScanState, params: TrimBordersParameters) -> Preview:
    chosen = chosen_passes(state, params.passes)
    shown = shown_points(state, chosen)
    all_flags, before, gone = [np.zeros(0, bool)], 0, 0
    for n, view in zip(chosen, shown.views, strict=True):
        flags = view.rim <= params.pixels
        counts = view.rims.astype(np.int64)
        off, near = int(counts[: params.pixels + 1].sum()), np.flatnonzero(flags)
        if params.spare and len(near) and state.passes[n].cloud is None:
            flags[near] = ~confirmed(_beside(state, n), view.frame[near], view.cloud.points[near], WITNESSES)
            # What lies off the rims in another frame is shown as such: the rest stands for itself.
            off = min(off, int(view.stands_for[flags].sum()))
        before, gone = before + int(counts.sum()), gone + off
        all_flags.append(flags)
    return Preview({"points_before": before, "points_after": before - gone}, shown.layers(np.concatenate(all_flags)))


def _beside(state: ScanState, n: int) -> tuple[PassState, ...]:
    """A pass, and behind it those that lie in one frame with it."""
    group = next(g for g in placed_apart(state) if n in g)
    return (state.passes[n], *(state.passes[k] for k in group if k != n))


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
    """Take pixels off borders where measuring ended, and off rims, but for what other frames saw there, too."""
    before = after = 0
    chosen = chosen_passes(state, params.passes)
    for k, n in enumerate(chosen):
        scan = state.passes[n]
        part = part_of(progress, k / len(chosen), (k + 1) / len(chosen))
        keep, had, has = _trimmed(_beside(state, n), params, part)
        if not has:
            raise ParameterError(f"{params.pixels} pixels off each border leave nothing of {quoted(scan.title)}.")
        state = state.with_pass(n, replace(scan, keep=keep))
        before, after = before + had, after + has
    return state, {"points_before": before, "points_after": after}


def _trimmed(
    beside: tuple[PassState, ...], params: TrimBordersParameters, progress: Progress
) -> tuple[np.ndarray, int, int]:
    """Packed bits (n, bytes) of what is kept of the first pass off its borders, and the points before and after."""
    scan, pixels = beside[0], params.pixels
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
    for first in range(0, scan.frame_count, BLOCK):
        progress(first / scan.frame_count, f"Trimming the borders of {quoted(scan.title)}")
        block = range(first, min(first + BLOCK, scan.frame_count))
        for index, (seen, inside) in zip(block, _inside(beside, block, params), strict=True):
            before, after = before + int(seen.sum()), after + int((seen & inside).sum())
            masks.append(old[index] & np.packbits(inside.ravel()))
    return np.stack(masks), before, after


def _inside(
    beside: tuple[PassState, ...], block: range, params: TrimBordersParameters
) -> list[tuple[np.ndarray, np.ndarray]]:
    """Of some frames of the first pass which pixels (h, w) are measured, and which do not go."""
    scan = beside[0]
    out, places, own = [], [NO_PLACES], [np.zeros(0, np.int64)]
    for index in block:
        surface = frame_map(scan, index)
        seen, inside = surface.confidence > 0, pixels_off_rim(surface) > params.pixels
        rim = seen & ~inside
        places.append(transform_points(scan.T_object_camera(index), surface.points(rim).astype(np.float64)))
        own.append(np.full(int(rim.sum()), index))
        out.append((seen, inside))
    if params.spare:
        frames = np.concatenate(own)
        sure = confirmed(beside, frames, np.concatenate(places))
        for index, (seen, inside) in zip(block, out, strict=True):
            inside[seen & ~inside] = sure[frames == index]
    return out
