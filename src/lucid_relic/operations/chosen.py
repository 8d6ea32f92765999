"""The passes, or the part of the surface, that an operation is asked to work on."""

import numpy as np

from lucid_relic.errors import ParameterError, StepNotPossible, quoted
from lucid_relic.selection.marked import marked_faces
from lucid_relic.types import Marks, ScanState, TriangleMesh


def chosen_passes(state: ScanState, titles: tuple[str, ...] | None) -> list[int]:
    """Indices of the passes with these titles, or of all when none are named; raises for a title that no pass has."""
    known = [p.title for p in state.passes]
    for title in titles or ():
        check_title(state, title)
    return [n for n, title in enumerate(known) if titles is None or title in titles]


def own_title(title: str, known: list[str]) -> str:
    """A title that no pass has yet: the same with a number behind it where it is taken."""
    names = (title if k == 1 else f"{title} {k}" for k in range(1, len(known) + 2))
    return next(name for name in names if name not in known)


def check_title(state: ScanState, title: str) -> None:
    """Raise `ParameterError` when no pass has that title."""
    known = [p.title for p in state.passes]
    if title not in known:
        raise ParameterError(f"There is no pass {quoted(title)}; there are: {', '.join(known) or 'none'}.")


def marked_of(mesh: TriangleMesh, marks: Marks) -> np.ndarray:
    """(m,) bool: the triangles that are marked; raises `StepNotPossible` when none is."""
    chosen: np.ndarray = marked_faces(mesh, marks)
    if not chosen.any():
        raise StepNotPossible("Nothing of the mesh is marked. Mark something in the view first.")
    return chosen
