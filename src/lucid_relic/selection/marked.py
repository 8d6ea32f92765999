"""Marks found again: the same strokes on the points that are shown, on every pixel of every frame, on triangles.

A stroke is prepared once on the points that are shown (what hides what, what hangs together); then any place of the
object can be asked. So the full data get the same answer as the thinned view that the hand saw.
"""

import numpy as np

from lucid_relic.geometry.masks import Asks, PixelMask, pixels_where
from lucid_relic.progress import Progress
from lucid_relic.selection import _kernels
from lucid_relic.selection.joined import JoinedCells, joined_faces
from lucid_relic.selection.outline import within_outline
from lucid_relic.selection.visible import Sight, projected, seen_faces
from lucid_relic.types import BallStroke, JoinedStroke, Marks, PassState, ScreenStroke, Stroke, TriangleMesh, View


class Marking:
    """Marks made ready on the points (n, 3) that are shown, with normals, about `spacing_mm` apart (object's frame)."""

    def __init__(self, marks: Marks, shown: np.ndarray, normals: np.ndarray, spacing_mm: float) -> None:
        self.marks = marks
        self._sights: dict[View, Sight] = {}
        self._asks = [self._prepared(stroke, shown, normals, spacing_mm) for stroke in marks.strokes]

    def each(self, places: np.ndarray, normals: np.ndarray) -> list[np.ndarray]:
        """Of every stroke (n,) bool: the places (n, 3), with unit normals (n, 3), within it."""
        places = np.ascontiguousarray(places, dtype=np.float64)
        return [ask(places, normals) for ask in self._asks]

    def marked(self, places: np.ndarray, normals: np.ndarray) -> np.ndarray:
        """(n,) bool: which places (n, 3) of the object, with unit normals (n, 3), are marked."""
        return combined(self.marks, self.each(places, normals), len(places))

    def _prepared(self, stroke: Stroke, shown: np.ndarray, normals: np.ndarray, spacing_mm: float) -> Asks:
        if isinstance(stroke, BallStroke):
            return lambda places, _: _in_balls(stroke, places)
        if isinstance(stroke, JoinedStroke):
            cells = JoinedCells(shown.astype(np.float64), np.array(stroke.at), stroke.gap_mm)
            return lambda places, _: cells.holds(places)
        if stroke.through:
            return lambda places, _: within_outline(stroke, projected(stroke.view, places)[0])
        if stroke.view not in self._sights:
            self._sights[stroke.view] = Sight.of(stroke.view, shown, normals, spacing_mm)
        sight = self._sights[stroke.view]
        return lambda places, normals: _seen_within(stroke, sight, places, normals)


def combined(marks: Marks, answers: list[np.ndarray], count: int) -> np.ndarray:
    """What is marked when the strokes' answers (n,) add to and take from each other in their order."""
    out = np.zeros(count, np.bool_)
    for stroke, answer in zip(marks.strokes, answers, strict=True):
        out = out | answer if stroke.add else out & ~answer
    return ~out if marks.invert else out


def _seen_within(stroke: ScreenStroke, sight: Sight, places: np.ndarray, normals: np.ndarray) -> np.ndarray:
    pixels, depth = projected(stroke.view, places)
    inside = within_outline(stroke, pixels)
    sight.leave_seen(places, normals, pixels, depth, inside)
    return inside


def _in_balls(stroke: BallStroke, places: np.ndarray) -> np.ndarray:
    inside = np.zeros(len(places), np.bool_)
    _kernels.near_path(places, np.array(stroke.centres, dtype=np.float64), stroke.radius_mm, inside)
    return inside


def marked_pixels(scan: PassState, marking: Marking, progress: Progress, cleaned: bool = True) -> PixelMask:
    """The usable pixels of every frame of a pass, or its points, that are marked; with cleaned only of what is kept."""
    return pixels_where(scan, marking.marked, "Marking in", progress, cleaned)


def marked_faces(mesh: TriangleMesh, marks: Marks) -> np.ndarray:
    """(m,) bool: triangles whose middle is marked.

    What is seen is what a ray from the eye meets first; what hangs together is followed over edges, not over gaps.
    """
    middles = np.ascontiguousarray(mesh.face_centres(), dtype=np.float64)
    seen: dict[View, np.ndarray] = {}
    answers = []
    for stroke in marks.strokes:
        if isinstance(stroke, JoinedStroke):
            answers.append(joined_faces(mesh, np.array(stroke.at), stroke.crease_deg))
        elif isinstance(stroke, BallStroke):
            answers.append(_in_balls(stroke, middles))
        else:
            inside = within_outline(stroke, projected(stroke.view, middles)[0])
            if not stroke.through:
                if stroke.view not in seen:
                    seen[stroke.view] = seen_faces(mesh, stroke.view)
                inside &= seen[stroke.view]
            answers.append(inside)
    return combined(marks, answers, len(mesh.faces))
