"""The points of passes as they are shown, together: what marks are prepared on, and what previews count."""

from collections import OrderedDict
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from lucid_relic.geometry.cells import shared_areas
from lucid_relic.memo import remembered
from lucid_relic.operations.preview import PreviewLayer
from lucid_relic.progress import Progress, silent
from lucid_relic.selection.marked import Marking, combined
from lucid_relic.types import JoinedStroke, Marks, ScanState, ScreenStroke
from lucid_relic.view.pass_view import PassView, pass_view

AREA_SPACINGS = 3.0  # of the points, as wide as the cells in which passes share a surface
STROKES_KEPT = 64  # answers to the last strokes: while one is drawn, those before it are not asked again
NO_POINTS = np.zeros((0, 3))


@dataclass(frozen=True)
class ShownPoints:
    """points (n, 3) float64 mm of some passes in the object's frame, one pass after the other."""

    titles: tuple[str, ...]
    views: tuple[PassView, ...]

    @cached_property
    def points(self) -> np.ndarray:
        return np.concatenate([v.cloud.points for v in self.views] or [NO_POINTS]).astype(np.float64)

    @cached_property
    def normals(self) -> np.ndarray:
        return np.concatenate([v.cloud.normals for v in self.views] or [NO_POINTS]).astype(np.float64)

    @cached_property
    def stands_for(self) -> np.ndarray:
        """(n,) how many measurements each stands for."""
        return np.concatenate([v.stands_for for v in self.views] or [np.zeros(0)]).astype(np.int64)

    @cached_property
    def spacing_mm(self) -> float:
        """Usual distance between neighbouring points of the passes that has the widest."""
        return max((v.spacing_mm for v in self.views), default=1.0)

    @cached_property
    def areas(self) -> np.ndarray:
        """(n,) mm² of surface that each stands for; what several passes saw counts once."""
        return shared_areas([v.cloud.points for v in self.views], AREA_SPACINGS * self.spacing_mm)

    @cached_property
    def answers(self) -> "OrderedDict[Any, np.ndarray]":
        """Packed answers to the strokes asked last."""
        return OrderedDict()

    def marked(self, marks: Marks) -> np.ndarray:
        """(n,) bool: which of them are marked."""
        missing = tuple(dict.fromkeys(s for s in marks.strokes if s not in self.answers))
        for stroke, answer in zip(missing, self.marking(Marks(missing)).each(self.points, self.normals), strict=True):
            self.answers[stroke] = np.packbits(answer)
        unpacked = lambda s: np.unpackbits(self.answers[s], count=len(self.points)).view(np.bool_)  # noqa: E731
        out = combined(marks, [unpacked(s) for s in marks.strokes], len(self.points))
        for stroke in marks.strokes:
            self.answers.move_to_end(stroke)
        while len(self.answers) > max(STROKES_KEPT, len(marks.strokes)):
            self.answers.popitem(last=False)
        return out

    def marking(self, marks: Marks) -> Marking:
        """Marks made ready on these points."""
        seen = any(
            isinstance(s, JoinedStroke) or (isinstance(s, ScreenStroke) and not s.through) for s in marks.strokes
        )
        known = (self.points, self.normals, self.spacing_mm) if seen else (NO_POINTS, NO_POINTS, 1.0)
        return Marking(marks, *known)

    def counted(self, flags: np.ndarray) -> dict[str, Any]:
        """Figures of flagged points (n,): measurements, of how many, cm², and the same of every pass."""
        passes = [
            {"pass": title, "marked": int(view.stands_for[own].sum()), "points": int(view.stands_for.sum())}
            for title, view, own in zip(self.titles, self.views, self._split(flags), strict=True)
        ]
        return {
            "marked": int(self.stands_for[flags].sum()),
            "points": int(self.stands_for.sum()),
            "area_cm2": round(float(self.areas[flags].sum()) / 100, 4),
            "passes": passes,
        }

    def layers(self, flags: np.ndarray) -> tuple[PreviewLayer, ...]:
        """Flagged points (n,), as the viewer marks them."""
        return tuple(
            PreviewLayer(
                "marked",
                {"pass": title, "digest": view.digest},
                {"flags": np.packbits(own, bitorder="little")},
            )
            for title, view, own in zip(self.titles, self.views, self._split(flags), strict=True)
        )

    def _split(self, flags: np.ndarray) -> list[np.ndarray]:
        return np.split(flags, np.cumsum([len(v) for v in self.views])[:-1]) if self.views else []


def shown_points(state: ScanState, chosen: Sequence[int], progress: Progress = silent) -> ShownPoints:
    """The shown points of some passes by their numbers; kept for the passes that were asked for last."""
    kept: dict[str, Any] = remembered(state, "shown points", dict)
    if kept.get("of") != tuple(chosen):
        passes = [state.passes[n] for n in chosen]
        views = tuple(pass_view(p, progress) for p in passes)
        kept.update(of=tuple(chosen), points=ShownPoints(tuple(p.title for p in passes), views))
    found: ShownPoints = kept["points"]
    return found


def placed_apart(state: ScanState) -> list[list[int]]:
    """Numbers of the passes that lie in one frame: all that are placed together, every other alone."""
    placed = [n for n, p in enumerate(state.passes) if p.placed]
    return ([placed] if placed else []) + [[n] for n, p in enumerate(state.passes) if not p.placed]
