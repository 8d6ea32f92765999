"""Adjusting a laid colour by numbers that stay apart from it: white, light, contrast, warmth and so on, in linear light.

The viewer draws with the same formula (`web/src/bench/viewer/layers/adjust.glsl.ts`); a test holds both against each
other. The law of each number is our own choice, written down in docs/algorithms/colour.md.
"""

from dataclasses import asdict, dataclass, replace
from typing import Any, Self

import numpy as np

from lucid_relic.light.srgb import to_linear, to_srgb
from lucid_relic.threads import side_by_side
from lucid_relic.types import TriangleMesh

LUMA = np.array([0.2126, 0.7152, 0.0722], np.float32)  # of linear sRGB (ITU-R BT.709)
PIVOT = np.float32(0.18)  # linear light that contrast leaves as it is: middle grey
STOPS, TONES = 2.0, 1.2  # exponents of two at the ends of light, and of highlights and shadows
WARM, TINTED = 0.3, 0.2  # natural logarithms of the channels at the ends of warmth and tint
LEAST, MOST = 0.25, 4.0  # gains that a click on white may give: beyond, it was no grey
DARKEST = np.float32(1e-6)
ROWS = 128  # of a texture, adjusted at a time


@dataclass(frozen=True, kw_only=True)
class Adjustment:
    """white is the sRGB colour (0-255) of what should be grey, or None; the others -1…1, gamma 0.2…5; 0 and gamma 1 do nothing."""

    white: tuple[float, float, float] | None = None
    light: float = 0.0
    contrast: float = 0.0
    highlights: float = 0.0
    shadows: float = 0.0
    warmth: float = 0.0
    tint: float = 0.0
    saturation: float = 0.0
    gamma: float = 1.0

    @classmethod
    def from_json(cls, values: dict[str, Any] | None) -> Self:
        """From plain JSON as `as_json` gives it; nothing is no adjustment."""
        values = dict(values or {})
        if values.get("white") is not None:
            values["white"] = tuple(values["white"])
        return cls(**values)

    def as_json(self) -> dict[str, Any]:
        """Plain JSON."""
        return {**asdict(self), "white": None if self.white is None else list(self.white)}

    @property
    def changes(self) -> bool:
        """Whether it does anything."""
        return self != Adjustment()

    def gains(self) -> np.ndarray:
        """(3,) factors of the channels in linear light: of white, warmth, tint and light together."""
        gain = np.ones(3)
        if self.white is not None:
            seen = to_linear(np.array(self.white, np.float64) / 255).astype(np.float64)
            gain = np.clip(float(seen @ LUMA) / np.maximum(seen, 1e-4), LEAST, MOST)
        hue = np.exp([WARM * self.warmth, -TINTED * self.tint, -WARM * self.warmth])
        return (gain * hue / float(hue @ LUMA) * 2 ** (STOPS * self.light)).astype(np.float32)

    def of_linear(self, linear: np.ndarray) -> np.ndarray:
        """(…, 3) float32 adjusted linear light, unclipped, of linear light (…, 3)."""
        c = linear.astype(np.float32) * self.gains()
        bright = c @ LUMA
        seen = np.sqrt(np.clip(bright, 0, 1))
        tone = self.shadows * (1 - _smooth(0.0, 0.7, seen)) + self.highlights * _smooth(0.3, 1.0, seen)
        toned = np.maximum(bright * np.exp2(np.float32(TONES) * tone), DARKEST)
        toned = PIVOT * (toned / PIVOT) ** np.float32(2.0**self.contrast)
        toned = toned ** np.float32(1 / self.gamma)
        c = c * (toned / np.maximum(bright, DARKEST))[..., None]
        grey = toned[..., None]
        return (grey + np.float32(1 + self.saturation) * (c - grey)).astype(np.float32)

    def of_srgb(self, encoded: np.ndarray) -> np.ndarray:
        """uint8 sRGB (…, 3) adjusted."""
        return to_srgb(self.of_linear(to_linear(encoded)))


def _smooth(low: float, high: float, value: np.ndarray) -> np.ndarray:
    share = np.clip((value - np.float32(low)) / np.float32(high - low), 0, 1)
    return share * share * (3 - 2 * share)


def adjusted(mesh: TriangleMesh, adjustment: Adjustment) -> TriangleMesh:
    """The mesh with adjusted vertex colours and texture; the same one when nothing changes."""
    if not adjustment.changes:
        return mesh
    colours = None if mesh.colours is None else adjustment.of_srgb(mesh.colours)
    texture = mesh.texture
    if texture is not None:
        image = texture.image
        parts = [image[row : row + ROWS] for row in range(0, len(image), ROWS)]
        texture = replace(texture, image=np.concatenate(side_by_side(adjustment.of_srgb, parts)))
    return replace(mesh, colours=colours, texture=texture)
