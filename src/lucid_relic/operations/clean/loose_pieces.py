"""Loose pieces: what hangs on nothing goes, over all frames together."""

from dataclasses import dataclass, replace
from typing import TypedDict

import numpy as np

from lucid_relic.cleaning.loose import Pieces, find_pieces
from lucid_relic.geometry.masks import pixels_where, without
from lucid_relic.operations.chosen import chosen_passes
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.preview import Preview
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.operations.shown import ShownPoints, placed_apart, shown_points
from lucid_relic.operations.words import change
from lucid_relic.progress import Progress, part_of
from lucid_relic.types import ScanState

GAP_SPACINGS = 2.0  # of the points that are shown: what is farther off its neighbours than is usual hangs on nothing
TOLD = 24  # pieces of a report, the largest


@dataclass(frozen=True, kw_only=True)
class LoosePiecesParameters(Parameters):
    gap_mm: float = param(0.0, "Wider gaps part pieces; 0 takes two spacings", unit="mm", low=0, high=200)
    least_percent: float = param(1.0, "Smaller pieces go, in parts of the largest", unit="%", low=0, high=100)
    keep: tuple[tuple[float, float, float], ...] = param((), "Pieces at these places stay", kind="places")
    passes: tuple[str, ...] | None = param(None, "Only these passes; all when left out", kind="passes")


class Piece(TypedDict):
    """Its measurements, its area, a place on it, and whether it stays."""

    points: int
    area_cm2: float
    at: list[float]
    stays: bool


class LoosePiecesReport(TypedDict):
    """The gap used (mm), pieces found and gone, the largest of them, and points before and after."""

    gap_mm: float
    pieces: int
    pieces_gone: int
    largest: list[Piece]
    points_before: int
    points_after: int


def _headline(report: Report) -> str:
    return f"{report['pieces_gone']} gone, {change(report['points_before'], report['points_after'])}"


@dataclass(frozen=True)
class Found:
    """Passes that lie in one frame, their shown points, and the pieces of these."""

    passes: list[int]
    shown: ShownPoints
    gap_mm: float
    pieces: Pieces

    def goes(self, places: np.ndarray, _normals: np.ndarray) -> np.ndarray:
        """(n,) bool: which places (n, 3) belong to a piece that goes."""
        return self.pieces.goes(places)


def _found(state: ScanState, params: LoosePiecesParameters, progress: Progress) -> list[Found]:
    chosen = set(chosen_passes(state, params.passes))
    groups = [[n for n in group if n in chosen] for group in placed_apart(state)]
    out = []
    for group in filter(None, groups):
        shown = shown_points(state, group, progress)
        gap = params.gap_mm or GAP_SPACINGS * shown.spacing_mm
        pieces = find_pieces(shown.points, shown.stands_for, shown.areas, gap, params.least_percent / 100, params.keep)
        out.append(Found(group, shown, gap, pieces))
    return out


def _told(found: list[Found]) -> list[Piece]:
    every = [
        Piece(points=int(n), area_cm2=round(float(a) / 100, 4), at=[round(float(v), 3) for v in at], stays=bool(s))
        for f in found
        for n, a, at, s in zip(f.pieces.points, f.pieces.area_mm2, f.pieces.at, f.pieces.stays, strict=True)
    ]
    return sorted(every, key=lambda p: -p["area_cm2"])[:TOLD]


def _preview(state: ScanState, params: LoosePiecesParameters) -> Preview:
    found = _found(state, params, lambda *_: None)
    flags = [f.pieces.goes(f.shown.points) for f in found]
    before = sum(int(f.shown.stands_for.sum()) for f in found)
    gone = sum(int(f.shown.stands_for[g].sum()) for f, g in zip(found, flags, strict=True))
    figures = {
        "gap_mm": max((f.gap_mm for f in found), default=params.gap_mm),
        "pieces": sum(len(f.pieces.stays) for f in found),
        "pieces_gone": sum(int((~f.pieces.stays).sum()) for f in found),
        "largest": _told(found),
        "points_before": before,
        "points_after": before - gone,
    }
    return Preview(figures, tuple(layer for f, g in zip(found, flags, strict=True) for layer in f.shown.layers(g)))


@operation(
    "loose_pieces",
    title="Loose pieces",
    stage="clean",
    key="Alt+G",
    weight=4,
    needs=(Need.PASSES,),
    parameters=LoosePiecesParameters,
    headline=_headline,
    preview=_preview,
)
def loose_pieces(
    state: ScanState, params: LoosePiecesParameters, progress: Progress
) -> tuple[ScanState, LoosePiecesReport]:
    """Take away bits that hang on nothing: dust, rests of the stand, far things that came into view."""
    found = _found(state, params, part_of(progress, 0.0, 0.3))
    before = gone = 0
    total = sum(len(f.passes) for f in found)
    done = 0
    for one in found:
        for n in one.passes:
            scan = state.passes[n]
            part = part_of(progress, 0.3 + 0.7 * done / total, 0.3 + 0.7 * (done + 1) / total)
            mask = pixels_where(scan, one.goes, "Looking for loose pieces of", part)
            if mask.chosen:
                state = state.with_pass(n, replace(scan, keep=without(scan, mask.bits)))
            before, gone, done = before + mask.usable, gone + mask.chosen, done + 1
    return state, {
        "gap_mm": max((f.gap_mm for f in found), default=params.gap_mm),
        "pieces": sum(len(f.pieces.stays) for f in found),
        "pieces_gone": sum(int(np.count_nonzero(~f.pieces.stays)) for f in found),
        "largest": _told(found),
        "points_before": before,
        "points_after": before - gone,
    }
