"""Loose pieces: bits of the joint cloud of all frames that hang on nothing."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree

from lucid_relic.geometry.cells import Cells


@dataclass(frozen=True)
class Pieces:
    """What hangs together over gaps of up to a cell.

    points (p,) measurements, area_mm2 (p,) and a place at (p, 3) mm of every piece, largest first; stays (p,) bool;
    rank (p,) turns a piece's number among the cells into its place in these lists.
    """

    cells: Cells
    rank: np.ndarray
    points: np.ndarray
    area_mm2: np.ndarray
    at: np.ndarray
    stays: np.ndarray

    def goes(self, places: np.ndarray) -> np.ndarray:
        """(n,) bool: which places (n, 3) belong to a piece that goes; none when there are no pieces."""
        if not len(self.rank):
            return np.zeros(len(places), np.bool_)
        return np.asarray(~self.stays[self.rank[self.cells.piece_of(places)]])


def find_pieces(
    points: np.ndarray,
    stands_for: np.ndarray,
    areas: np.ndarray,
    gap_mm: float,
    least_share: float,
    keep: Sequence[tuple[float, float, float]] = (),
) -> Pieces:
    """The pieces of points (n, 3) that each stand for some measurements (n,) and mm² (n,).

    Those stay that have at least `least_share` of the area of the largest, and those nearest to the places in `keep`.
    """
    cells = Cells(points, gap_mm)
    piece = cells.piece_of(points)
    area = np.bincount(piece, areas, minlength=cells.pieces)
    order = np.argsort(-area, kind="stable")
    rank = np.empty_like(order)
    rank[order] = np.arange(len(order))
    count = np.bincount(piece, stands_for, minlength=cells.pieces)[order].astype(np.int64)
    area = area[order]
    stays = area >= least_share * area.max(initial=0.0)
    _, first = np.unique(rank[piece], return_index=True)
    at = points[first]
    if len(keep) and len(points):
        stays[rank[piece[cKDTree(points).query(np.array(keep))[1]]]] = True
    return Pieces(cells, rank, count, area, at, stays)
