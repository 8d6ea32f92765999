"""Joining neighbouring charts that lie flat together with little stretch: fewer seams, less of the square lost to borders.

Of every two charts that share much of the smaller one's border, the smaller is turned to where the border fits best,
and both are relaxed as one. They stay joined when the whole is stretched little and does not fold.
"""

from dataclasses import dataclass

import numpy as np

from lucid_relic.colour.flat import folded, relaxed, stretch, true_shapes
from lucid_relic.progress import Progress, silent
from lucid_relic.types import TriangleMesh

FEWEST = 120  # charts from which on none are joined: fewer large ones leave more of the square empty
MOST_STRETCHED = 1.05  # mean stretch of a joined chart by area at most
COMMON_BORDER = 0.15  # share of the smaller one's border that two charts must have in common
LARGEST_SHARE = 0.06  # of all area that a joined chart may have
ROUNDS, RELAXINGS = 5, 4  # of joining, and of relaxing each join: five rounds take all that lies flat together


@dataclass
class _Charts:
    """Charts being joined: of each face its chart (m,) and corners flat (m, 3, 2) mm; of each chart name and folds (c,).

    A chart keeps its name as long as it stays what it is, so that what was refused is not tried again.
    """

    flat: np.ndarray
    chart: np.ndarray
    name: np.ndarray
    folds: np.ndarray


@dataclass(frozen=True)
class _Border:
    """Sides (b,) where a face meets one of another chart: face, which of its sides, face across, length mm."""

    face: np.ndarray
    side: np.ndarray
    across: np.ndarray
    length: np.ndarray


def joined(
    flat: np.ndarray,
    mesh: TriangleMesh,
    chart: np.ndarray,
    neighbours: np.ndarray,
    area: np.ndarray,
    progress: Progress = silent,
) -> tuple[np.ndarray, np.ndarray]:
    """flat (m, 3, 2) mm and chart (m,) with charts joined where that costs little stretch; area (m,) mm² of each face."""
    count = int(chart.max()) + 1
    charts = _Charts(flat, chart, np.arange(count), np.bincount(chart, folded(flat, chart, area), count))
    refused: set[tuple[int, int]] = set()
    shapes = true_shapes(mesh)
    for k in range(ROUNDS):
        progress(k / ROUNDS, "Joining charts")
        border = _border(charts.chart, mesh, neighbours)
        pairs = _pairs(charts, border, area, refused)
        if not len(pairs):
            break
        beside = _laid_beside(charts, pairs, mesh.faces, border)
        charts = _tried(charts, pairs, beside, mesh.faces, shapes, area, refused)
    return charts.flat, charts.chart


def _border(chart: np.ndarray, mesh: TriangleMesh, neighbours: np.ndarray) -> _Border:
    face, side = np.nonzero((neighbours >= 0) & (chart[neighbours] != chart[:, None]))
    start, end = mesh.faces[face, side], mesh.faces[face, (side + 1) % 3]
    length = np.linalg.norm(mesh.vertices[end].astype(np.float64) - mesh.vertices[start], axis=1)
    return _Border(face, side, neighbours[face, side], length)


def _pairs(charts: _Charts, border: _Border, area: np.ndarray, refused: set[tuple[int, int]]) -> np.ndarray:
    """(p, 2) smaller and larger chart to be tried together, each chart once, those with most in common first."""
    count = len(charts.name)
    a, b = charts.chart[border.face], charts.chart[border.across]
    around, size = np.bincount(a, border.length, count), np.bincount(charts.chart, area, count)
    keys, at = np.unique(a.astype(np.int64) * count + b, return_inverse=True)
    small, large = keys // count, keys % count
    common = np.bincount(at, border.length) / np.maximum(around[small], 1e-12)
    smaller = (size[small] < size[large]) | ((size[small] == size[large]) & (small < large))
    fits = smaller & (common >= COMMON_BORDER) & (size[small] + size[large] <= LARGEST_SHARE * area.sum())
    taken = np.zeros(count, bool)
    pairs: list[tuple[int, int]] = []
    for k in np.flatnonzero(fits)[np.argsort(-common[fits], kind="stable")]:
        if len(pairs) >= count - FEWEST:
            break
        s, g = int(small[k]), int(large[k])
        if not taken[s] and not taken[g] and (charts.name[s], charts.name[g]) not in refused:
            taken[s] = taken[g] = True
            pairs.append((s, g))
    return np.array(pairs, np.int64).reshape(-1, 2)


def _tried(
    charts: _Charts, pairs: np.ndarray, beside: np.ndarray, faces: np.ndarray, shapes: tuple[np.ndarray, np.ndarray],
    area: np.ndarray, refused: set[tuple[int, int]],
) -> _Charts:  # fmt: skip
    """The charts with those pairs, laid `beside` each other, joined that lie well; the others are added to `refused`."""
    small, large = pairs.T
    pair = np.full(len(charts.name), -1)
    pair[small] = pair[large] = np.arange(len(pairs))
    part = np.flatnonzero(pair[charts.chart] >= 0)
    of, own, sides, weight = pair[charts.chart[part]], area[part], shapes[0][part], shapes[1][part]
    together = relaxed(beside[part], faces[part], sides, weight, of, RELAXINGS)
    longer = np.bincount(of, own * stretch(together, sides)) / np.maximum(np.bincount(of, own), 1e-12)
    folds = np.bincount(of, folded(together, of, own))
    good = (longer <= MOST_STRETCHED) & (folds <= charts.folds[small] + charts.folds[large])
    refused.update(zip(charts.name[small[~good]], charts.name[large[~good]], strict=True))
    flat, chart = charts.flat.copy(), charts.chart.copy()
    name, all_folds = charts.name.copy(), charts.folds.copy()
    flat[part[good[of]]] = together[good[of]]
    chart[part[good[of]]] = large[of[good[of]]]
    name[large[good]] = name.max() + 1 + np.arange(good.sum())
    all_folds[large[good]] = folds[good]
    kept, chart = np.unique(chart, return_inverse=True)
    return _Charts(flat, chart, name[kept], all_folds[kept])


def _laid_beside(charts: _Charts, pairs: np.ndarray, faces: np.ndarray, border: _Border) -> np.ndarray:
    """flat (m, 3, 2) with the smaller chart of every pair moved to where its border best fits the larger one's."""
    count = len(charts.name)
    to = np.full(count, -1)
    to[pairs[:, 0]] = pairs[:, 1]
    on = to[charts.chart[border.face]] == charts.chart[border.across]
    face, across, weight = border.face[on], border.across[on], np.tile(border.length[on], 2)
    ends = [(face, (border.side[on] + k) % 3) for k in range(2)]
    met = [(faces[across] == faces[end][:, None]).argmax(axis=1) for end in ends]
    source = np.concatenate([charts.flat[end] for end in ends])
    target = np.concatenate([charts.flat[across, corner] for corner in met])
    which = np.tile(charts.chart[face], 2)
    total = np.maximum(np.bincount(which, weight, count), 1e-12)[:, None]
    middle, goal = (
        np.stack([np.bincount(which, weight * p[:, k], count) for k in range(2)], axis=1) / total
        for p in (source, target)
    )
    p, q = source - middle[which], target - goal[which]
    turn = np.bincount(which, weight * (p * q).sum(axis=1), count) + 1j * np.bincount(
        which, weight * (p[:, 0] * q[:, 1] - p[:, 1] * q[:, 0]), count
    )
    turn = np.where(turn == 0, 1.0, turn / np.maximum(np.abs(turn), 1e-20))
    out = charts.flat.copy()
    moved = np.flatnonzero(to[charts.chart] >= 0)
    of = charts.chart[moved]
    away = (out[moved] - middle[of][:, None]) @ np.array([1.0, 1j]) * turn[of][:, None]
    out[moved] = np.stack([away.real, away.imag], axis=2) + goal[of][:, None]
    return out
