"""How well the object was seen: places seen too seldom or too slanting, and those never seen at all."""

from collections.abc import Sequence
from typing import Any

import numpy as np

from lucid_relic.desk.coverage import Judged, judge
from lucid_relic.geometry.topology import face_components
from lucid_relic.inspection.findings import finding
from lucid_relic.planning.coverage import enough_for
from lucid_relic.progress import silent
from lucid_relic.types import Instrument, ScanState, TriangleMesh

USE = "print"  # the least that any use asks
THIN, NEVER = 0.06, 0.02  # shares of the surface from which it is told: a foot's rim is 1-4 % thin
THIN_WORDS = "Seen by fewer than two frames, or only at a slant over 68°: it will be rough, or made up when fused."


def thin_and_never(state: ScanState, sheets: Sequence[Instrument]) -> list[dict[str, Any]]:
    """Thin coverage; and, before a surface says what of it was made up, what was never seen."""
    passes = state.used_passes()
    if not passes or any(p.cloud is not None or p.keep is None for p in passes):
        return []
    judged = judge(state, enough_for(USE), sheets[0], silent)
    enough, seen = judged.coverage.enough(judged.need), judged.coverage.times > 0
    total = judged.areas.sum()
    thin, never = judged.areas[seen & ~enough].sum() / total, judged.areas[~seen].sum() / total
    out = []
    if thin > THIN:
        out.append(finding("thin coverage", "capture", "Thin coverage", f"{THIN_WORDS}{_advice(judged)}", f"{thin:.0%}",
                           place=_middle(judged.mesh, judged.areas, seen & ~enough)))  # fmt: skip
    if never > NEVER and state.mesh is None:
        out.append(finding("never seen", "capture", "Never seen",
                           f"No frame saw it: it stays open, or is made up when fused.{_advice(judged)}", f"{never:.0%}",
                           place=_middle(judged.mesh, judged.areas, ~seen)))  # fmt: skip
    return out


def _advice(judged: Judged) -> str:
    best = next(iter(judged.nexts), None)
    return f" Best next: {best.words}." if best is not None else ""


def _middle(mesh: TriangleMesh, areas: np.ndarray, wanted: np.ndarray) -> list[float]:
    """Middle of the largest patch of the wanted faces (m,) bool that hang together."""
    own = np.flatnonzero(wanted)
    _, piece = face_components(mesh.faces[own])
    largest = own[piece == np.argmax(np.bincount(piece, areas[own]))]
    centres = mesh.face_centres()[largest]
    # On the surface, not in the middle of a bend.
    at = centres[np.argmin(np.linalg.norm(centres - np.average(centres, axis=0, weights=areas[largest]), axis=1))]
    return [round(float(v), 2) for v in at]
