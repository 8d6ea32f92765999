"""What the points of all passes show before they are fused: bits that hang on nothing, and noise off the surface."""

from typing import Any

import numpy as np

from lucid_relic.cleaning.fuzz import seen_through
from lucid_relic.geometry.cells import Cells
from lucid_relic.inspection.findings import finding
from lucid_relic.operations.clean.loose_pieces import LoosePiecesParameters
from lucid_relic.operations.clean.trim_fuzz import TrimFuzzParameters, margin_of
from lucid_relic.operations.registry import get_operation
from lucid_relic.operations.shown import shown_points
from lucid_relic.operations.words import count
from lucid_relic.types import ScanState

LOOSE = 0.002  # share of the points that hang on nothing, from which it is told: dust is fewer
FUZZY = 0.01  # share of the points that others look through, from which it is told
CELL_SHARE = 0.08  # of the object's size: where most fuzz is, is told by cells as wide as this


def loose_points(state: ScanState) -> list[dict[str, Any]]:
    """Pieces of the points that hang on nothing; of what is fused the surface tells."""
    if state.mesh is not None or not state.used_passes() or any(p.keep is None for p in state.used_passes()):
        return []
    looked = get_operation("loose_pieces").preview
    assert looked is not None
    figures: dict[str, Any] = looked(state, LoosePiecesParameters()).figures
    gone = figures["points_before"] - figures["points_after"]
    if gone <= LOOSE * figures["points_before"]:
        return []
    place = next((p["at"] for p in figures["largest"] if not p["stays"]), None)
    return [finding("loose pieces", "clean", "Loose pieces among the points",
                    f"{figures['pieces_gone']} bits hang on nothing, {count(gone)} points in all: dust, rests of the stand.",
                    f"{figures['pieces_gone']}", "loose_pieces", place)]  # fmt: skip


def fuzz(state: ScanState) -> list[dict[str, Any]]:
    """Points that other frames looked through, as long as nothing is fused."""
    index = [n for n, p in enumerate(state.passes) if p.placed and not p.off]
    if state.mesh is not None or not index or any(state.passes[n].keep is None for n in index):
        return []
    passes = tuple(state.passes[n] for n in index)
    shown = shown_points(state, index)
    flags = seen_through(passes, shown.points, margin_of(passes, TrimFuzzParameters()))
    share = float(shown.stands_for[flags].sum() / max(shown.stands_for.sum(), 1))
    if share <= FUZZY:
        return []
    return [finding("fuzz", "clean", "Fuzz off the surface",
                    "Other frames looked through these points: torn edges, reflections, dust.",
                    f"{share:.1%}", "trim_fuzz", _most(shown.points[flags]))]  # fmt: skip


def _most(points: np.ndarray) -> list[float]:
    """The middle of the cell that holds most of some points (n, 3)."""
    cells = Cells(points, max(float(np.ptp(points, axis=0).max()) * CELL_SHARE, 1e-3))
    piece = cells.piece_of(points)
    return [round(float(v), 2) for v in np.median(points[piece == np.argmax(np.bincount(piece))], axis=0)]
