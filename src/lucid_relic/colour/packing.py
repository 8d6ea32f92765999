"""Packing charts into a square: each, the broadest first, where its middle lies lowest, holes between earlier ones included."""

from dataclasses import dataclass

import numpy as np
from scipy.spatial import ConvexHull, QhullError

from lucid_relic.colour import _kernels
from lucid_relic.colour.charts import by_chart
from lucid_relic.colour.flat import chart_bounds, signed_area
from lucid_relic.errors import StepNotPossible
from lucid_relic.progress import Progress, part_of, silent
from lucid_relic.threads import side_by_side

SIDE = 1024  # cells of the square in which charts are packed at most: a try is cheap, and larger textures keep wide gutters
GUTTER = 1  # cells between charts: enough that no place between texels is mixed from two charts
WAYS = 8  # in which a chart may be turned
FIRST_FILL = 0.72  # share of the square that is tried first: what most meshes reach
SHRINK = 0.97  # of the charts after a try that did not fit
SCALE_STEP = 0.003  # share at which a better scale is not worth a try
MAX_TRIES = 40  # after which charts are refused: they shrink to a third by then
WELL_FILLED = 0.72  # share of the square from which on no other order of the charts is tried
BETTER = 1.003  # by which another order must do better to be taken
BY_CHANCE, CHANCE = 6, 0.15  # tries in another order, and how far it is stirred


def packed(
    flat: np.ndarray, chart: np.ndarray, neighbours: np.ndarray, size: int, progress: Progress = silent
) -> np.ndarray:
    """uv (m, 3, 2) in texels of all charts inside the square, with gutters between them; neighbours (m, 3) across sides.

    Of several orders of the charts the one that allows the largest scale, until the square is well filled.
    """
    upright = _straightened(flat, chart)
    shapes = _shapes(upright, chart, neighbours)
    total = float(np.abs(signed_area(flat)).sum())
    side = min(size, SIDE)
    orders = _orders(shapes.ways[0].extent)
    scale = np.sqrt(FIRST_FILL * side * side / max(total, 1e-12))
    found = _largest(shapes, orders[0], side, scale, 0.0, part_of(progress, 0.0, 0.5))
    if found is None:
        raise StepNotPossible(f"The charts do not fit a texture of {size}. Choose a larger texture.")
    for k, order in enumerate(orders[1:]):
        if total * found.scale**2 >= WELL_FILLED * side**2:
            break
        step = part_of(progress, 0.5 + 0.5 * k / len(orders), 0.5 + 0.5 * (k + 1) / len(orders))
        found = _largest(shapes, order, side, found.scale * BETTER, found.scale, step) or found
    uv = _turned(upright, chart, shapes, found.way) * found.scale + found.place[chart][:, None, :] + GUTTER / 2
    return (uv + 0.5) * (size / side) - 0.5


@dataclass(frozen=True)
class _Way:
    """Charts turned by `turn` (2, 2): corners (k, 3, 2) of their outer faces from each chart's corner `low` (c, 2), extents (c, 2)."""

    turn: np.ndarray
    outer: np.ndarray
    low: np.ndarray
    extent: np.ndarray


@dataclass(frozen=True)
class _Shapes:
    """Charts to be packed, in all ways of turning them; their outer faces by chart, and where each chart's begin."""

    ways: tuple[_Way, ...]
    order: np.ndarray
    starts: np.ndarray


@dataclass(frozen=True)
class _Placed:
    """A packing: cells per unit, and place (c, 2) and way (c,) of every chart."""

    scale: float
    place: np.ndarray
    way: np.ndarray


def _shapes(flat: np.ndarray, chart: np.ndarray, neighbours: np.ndarray) -> _Shapes:
    """The outer faces of every chart, those with a side on its border, in all ways; they tell all of its outline."""
    outer = ((neighbours < 0) | (chart[neighbours] != chart[:, None])).any(axis=1)
    # A chart without a border has no outline, so all of it is told.
    outer |= (np.bincount(chart, outer) == 0)[chart]
    order, starts = by_chart(chart[outer])
    ways = []
    for angle in np.arange(WAYS) * (2 * np.pi / WAYS):
        c, s = np.cos(angle), np.sin(angle)
        turn = np.array([[c, s], [-s, c]])
        local = flat[outer] @ turn
        low, high = chart_bounds(local, order, starts)
        ways.append(_Way(turn, local - low[chart[outer]][:, None, :], low, high - low))
    return _Shapes(tuple(ways), order, starts)


def _orders(extent: np.ndarray) -> list[np.ndarray]:
    """Orders in which charts may be placed: by three measures of size, and the broadest first with some chance."""
    chance = np.random.default_rng(3).normal(0.0, CHANCE, (BY_CHANCE, len(extent)))
    broad = np.log(np.maximum(extent.min(axis=1), 1e-9))
    return [
        np.argsort(-key, kind="stable") for key in (broad, extent.sum(axis=1), extent.prod(axis=1), *(broad + chance))
    ]


def _turned(flat: np.ndarray, chart: np.ndarray, shapes: _Shapes, way: np.ndarray) -> np.ndarray:
    """Corners (m, 3, 2) of the charts from each one's corner, each turned in its way (c,)."""
    local = np.empty_like(flat)
    for k, turned in enumerate(shapes.ways):
        own = way[chart] == k
        local[own] = flat[own] @ turned.turn - turned.low[chart[own]][:, None, :]
    return local


def _largest(
    shapes: _Shapes, order: np.ndarray, side: int, scale: float, least: float, progress: Progress
) -> _Placed | None:
    """All charts in a square at the largest scale at which they fit, or None when that is not above `least`.

    Tried from `scale` on, by steps down or up until some scale fits and a larger one does not.
    """
    best, too_large = None, None
    for k in range(MAX_TRIES):
        progress(1.0 - 0.8**k, "Packing charts")
        placed = _placed(shapes, order, scale, side)
        if placed is not None:
            best = placed
        else:
            too_large = scale
        if best is None:
            scale *= SHRINK
            if scale <= least:
                break
        elif too_large is None:
            scale /= SHRINK
        elif too_large / best.scale < 1 + SCALE_STEP:
            break
        else:
            scale = np.sqrt(best.scale * too_large)
    return best


def _straightened(flat: np.ndarray, chart: np.ndarray) -> np.ndarray:
    """Every chart turned so that the smallest rectangle around it stands upright, its longer side along u."""
    order, starts = by_chart(chart)
    out = flat.copy()
    for first, end in zip(starts, starts[1:], strict=False):
        faces = order[first:end]
        corners = flat[faces].reshape(-1, 2)
        try:
            hull = corners[ConvexHull(corners).vertices]
        except QhullError:
            continue
        along = np.roll(hull, -1, axis=0) - hull
        angles = np.arctan2(along[:, 1], along[:, 0])
        c, s = np.cos(angles)[:, None], np.sin(angles)[:, None]
        u, v = c * hull[:, 0] + s * hull[:, 1], c * hull[:, 1] - s * hull[:, 0]
        wide, tall = np.ptp(u, axis=1), np.ptp(v, axis=1)
        best = int(np.argmin(wide * tall))
        angle = angles[best] + (np.pi / 2 if tall[best] > wide[best] else 0.0)
        c, s = np.cos(angle), np.sin(angle)
        out[faces] = (corners @ np.array([[c, -s], [s, c]])).reshape(-1, 3, 2)
    return out


def _placed(shapes: _Shapes, order: np.ndarray, scale: float, side: int) -> _Placed | None:
    """The charts in the square at this scale, or None when they do not fit."""
    begins, parts, used = [], [], 0
    drawn = side_by_side(
        lambda way: _spans(way.outer * scale, way.extent * scale, shapes.order, shapes.starts), shapes.ways
    )
    for begin, spans in drawn:
        begins.append(begin + used)
        parts.append(spans)
        used += len(spans[0])
    row, left, right = (np.concatenate([p[k] for p in parts]) for k in range(3))
    place, way = np.zeros((len(order), 2), np.int64), np.zeros(len(order), np.int64)
    fits = _kernels.pack(order, np.stack(begins), row, left, right, side, place, way)
    return _Placed(scale, place, way) if fits else None


def _spans(
    uv: np.ndarray, extent: np.ndarray, order: np.ndarray, starts: np.ndarray
) -> tuple[np.ndarray, tuple[np.ndarray, ...]]:
    """Where each chart's spans begin, and row, left and right of all spans."""
    room = 4 * int(np.ceil(extent[:, 1] + GUTTER + 2).sum())
    while True:
        spans = tuple(np.zeros(room, np.int64) for _ in range(3))
        begin = _kernels.chart_spans(uv, starts, order, extent, GUTTER, *spans)
        if len(begin):
            return begin, tuple(s[: begin[-1]] for s in spans)
        room *= 2
