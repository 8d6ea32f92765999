"""What an operation would do, shown before it does it: figures, and geometry light enough to send at once."""

from dataclasses import dataclass, field
from typing import Any

import numpy as np


@dataclass(frozen=True)
class PreviewLayer:
    """Something to draw: its kind, plain facts, and named arrays.

    Kinds known to the viewer: `plane` (facts: pass, plane; arrays: corners (4, 3) mm in the object's frame),
    `marked` (facts: pass, digest; arrays: flags, one bit for each point of the pass as it is shown, in its order), and
    `patch` (arrays: vertices (k, 3) float32 mm and faces (m, 3) uint32 of surface that would be there).
    """

    kind: str
    facts: dict[str, Any]
    arrays: dict[str, np.ndarray] = field(default_factory=dict)


@dataclass(frozen=True)
class Preview:
    """Figures (plain JSON) and layers to draw."""

    figures: dict[str, Any]
    layers: tuple[PreviewLayer, ...] = ()
