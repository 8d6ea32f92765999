"""What a hand marked, kept as the strokes it drew, not as a list of points."""

from dataclasses import dataclass
from typing import Literal

from lucid_relic.types.view import View

Place = tuple[float, float, float]
Pixel = tuple[float, float]
Outline = Literal["lasso", "polygon", "box", "brush"]


@dataclass(frozen=True)
class ScreenStroke:
    """An area drawn in a view: through the object, or only what is seen of it.

    points are pixels: the corners of a lasso or polygon, two opposite corners of a box, the path of a brush whose
    tip has a radius in pixels.
    """

    shape: Outline
    points: tuple[Pixel, ...]
    view: View
    radius_px: float = 0.0
    add: bool = True
    through: bool = False


@dataclass(frozen=True)
class BallStroke:
    """Everything within a radius (mm) of the path of a ball's centre."""

    centres: tuple[Place, ...]
    radius_mm: float
    add: bool = True


@dataclass(frozen=True)
class JoinedStroke:
    """Everything that hangs together with a place: over gaps up to `gap_mm`, over creases up to `crease_deg`."""

    at: Place
    gap_mm: float
    crease_deg: float = 180.0
    add: bool = True


Stroke = ScreenStroke | BallStroke | JoinedStroke


@dataclass(frozen=True)
class Marks:
    """Strokes in the order they were drawn, each adding to or taking from what was marked; then perhaps inverted."""

    strokes: tuple[Stroke, ...] = ()
    invert: bool = False
