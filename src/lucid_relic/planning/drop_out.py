"""Drop-out: which part of an object in view is not measured, and why, from one frame and its photograph.

The object is what stands over the plate, and what the photograph shows beside it that is neither background nor plate.
What was not measured of it is told apart by what the photograph and the measured neighbours say.
"""

from dataclasses import dataclass

import numpy as np
from scipy.ndimage import binary_closing, binary_dilation, binary_opening, label, uniform_filter

from lucid_relic.geometry.depth_map import DepthMap
from lucid_relic.light.srgb import to_linear
from lucid_relic.types import Camera, Instrument, Shutter

REASONS = ("dark", "glossy", "clear", "steep", "range", "hidden")
ADVICE = {
    "dark": "More exposure, or infrared light, where dark pigments answer; matting spray when neither is enough.",
    "glossy": "Less exposure for the glare, or several exposures merged; matting spray takes it away.",
    "clear": "Light goes through, or glares away: matting spray, temporary or sublimating (gone after about four hours).",
    "steep": "Seen at a slant: another side, or another height of the head, will measure it.",
    "range": "Out of the working band: nearer, farther, or a wider range gate.",
    "hidden": "The projector does not reach it: another side, piece by piece from slightly different angles.",
}
BORDER_PX = 8  # of the image, where the background is looked at
LIKE, WIDTHS = 6.0, 6.0  # sRGB bytes and scatters within which a pixel looks like the background or the plate
NEAR_PX = 4  # within which measured neighbours speak for a pixel
STEEP_SLACK_DEG = 14.0  # before the grazing slant from which a neighbour says that it gets too steep
GLARE = 0.85  # linear light of a photograph that is close to clipped
ANSWERED = 1.25  # times the darkest reflectance: from there all pixels answer
INFRARED_DARK = 0.5  # of the reflectance that white light needs is enough in infrared: pigments are paler there
JUMP_SHARE = 0.012  # of the distance: a larger step between neighbours is a jump
SPARSE = 0.55  # share of measured pixels around one of something clear, or dark, that answers here and there
WINDOW_PX = 15
AROUND_PX, MIRROR_DEG, SAME_WAY = 41, 24.0, 0.85  # window; from the mirror's normal; how alike normals around must be
GLOSSY_SHARE = 0.45  # of the gaps must lie where a glossy surface would glare, for glare to be their reason
HARDLY = 0.3  # share of measured pixels around one below which other sides will not measure it either


@dataclass(frozen=True)
class DropOut:
    """outline (h, w) bool: the object in view; reason (h, w) uint8: 0 measured or outside, else 1 + index into REASONS;
    shares of the object by reason."""

    outline: np.ndarray
    reason: np.ndarray

    @property
    def shares(self) -> dict[str, float]:
        """Share (0-1) of the object in view that is not measured, by reason."""
        total = max(int(self.outline.sum()), 1)
        return {name: float((self.reason == k + 1).sum() / total) for k, name in enumerate(REASONS)}

    @property
    def lost(self) -> float:
        """Share (0-1) of the object in view that is not measured."""
        return float((self.reason > 0).sum() / max(int(self.outline.sum()), 1))

    @property
    def stays(self) -> float:
        """Share (0-1) that no other side will measure: dark and clear surface of which hardly a pixel answers."""
        lasting = np.isin(self.reason, [1 + REASONS.index("dark"), 1 + REASONS.index("clear")])
        inside = uniform_filter(self.outline.astype(np.float32), WINDOW_PX)
        answered = uniform_filter((self.outline & (self.reason == 0)).astype(np.float32), WINDOW_PX)
        return float((lasting & (answered < HARDLY * inside)).sum() / max(int(self.outline.sum()), 1))

    @property
    def fails(self) -> float:
        """Share (0-1) of single looks at what does answer that fail for glare, or because it is nearly too dark."""
        lost = self.shares["dark"] + self.shares["clear"] + self.shares["glossy"] - self.stays
        return float(np.clip(lost / max(1 - self.stays, 1e-6), 0, 1))

    def advice(self, least: float = 0.02) -> list[str]:
        """What to do about each reason that costs more than `least`, the costliest first."""
        costly = sorted(self.shares.items(), key=lambda item: -item[1])
        return [ADVICE[name] for name, share in costly if share >= least]


def drop_out(
    surface: DepthMap, colour: np.ndarray | None, sheet: Instrument, shutter: Shutter, plate: np.ndarray | None, above_mm: float
) -> DropOut:  # fmt: skip
    """The drop-out of one frame.

    colour (h, w, 3) uint8 of the same view, or None; plate (4,) n·p = d in the camera's frame or None, above which the
    object begins `above_mm`.
    """
    depth, camera = surface.depth, surface.camera
    measured = depth > 0
    over = _over_plate(depth, camera, plate) > above_mm if plate is not None else measured
    body = measured & over
    outline = body if colour is None else _outline(colour, measured, body, camera, plate)
    lost = outline & ~measured
    reason = np.zeros(depth.shape, np.uint8)
    if lost.any():
        reason[lost] = _reasons(surface, colour, sheet, shutter, outline, body)[lost]
    return DropOut(outline, reason)


def _over_plate(depth: np.ndarray, camera: Camera, plate: np.ndarray) -> np.ndarray:
    """(h, w) mm height over the plate of what was measured."""
    return np.where(depth > 0, (camera.sight_lines @ plate[:3]) * depth - plate[3], -np.inf)


def _unlike(colour: np.ndarray, sample: np.ndarray) -> np.ndarray:
    """(h, w) bool of pixels that do not look like a sample (n, 3) of others."""
    if len(sample) < 20:
        return np.ones(colour.shape[:2], bool)
    middle = np.median(sample, axis=0)
    scatter = 1.4826 * np.median(np.abs(sample - middle), axis=0)
    return (np.abs(colour - middle) > np.maximum(WIDTHS * scatter, LIKE)).any(axis=2)


def _outline(
    colour: np.ndarray, measured: np.ndarray, body: np.ndarray, camera: Camera, plate: np.ndarray | None
) -> np.ndarray:
    """(h, w) bool: the object in view, measured or only seen."""
    border = np.ones(body.shape, bool)
    border[BORDER_PX:-BORDER_PX, BORDER_PX:-BORDER_PX] = False
    pixels = colour.astype(np.float32)
    seen = ~measured & _unlike(pixels, pixels[border & ~measured])
    ground = measured & ~body
    if plate is not None and ground.any():
        # Unmeasured plate looks like the measured plate around it.
        near = binary_closing(ground, iterations=NEAR_PX)
        seen &= ~near | _unlike(pixels, pixels[ground])
    # Specks beside what was measured are holes in it; farther away they are dust in the photograph.
    outline = body | binary_opening(seen, iterations=1) | (seen & binary_dilation(body, iterations=2))
    pieces, count = label(binary_dilation(outline, iterations=2))
    if not count:
        return outline
    sizes = np.bincount(pieces[body], minlength=count + 1)
    sizes[0] = 0
    belongs = sizes > max(0.002 * body.sum(), 1)
    if not belongs.any():  # nothing measured at all: the largest thing in view
        all_sizes = np.bincount(pieces.ravel(), minlength=count + 1)
        all_sizes[0] = 0
        belongs[int(all_sizes.argmax())] = True
    return outline & belongs[pieces]


def _reasons(
    surface: DepthMap, colour: np.ndarray | None, sheet: Instrument, shutter: Shutter, outline: np.ndarray, body: np.ndarray
) -> np.ndarray:  # fmt: skip
    """(h, w) uint8 most likely reason, should a pixel not be measured; what is tested later counts before."""
    depth, camera = surface.depth, surface.camera
    reason = np.full(depth.shape, 1 + REASONS.index("hidden"), np.uint8)
    near = lambda mask: binary_dilation(mask, iterations=NEAR_PX)  # noqa: E731
    sparse = _sparse(body, outline) & outline & (depth == 0)
    mirrors = sparse & _mirrors(surface, sheet)
    reason[sparse & ~near(_jumps(depth))] = 1 + REASONS.index("clear")
    if mirrors.sum() > GLOSSY_SHARE * sparse.sum():  # glass drops out beside its glare too
        reason[mirrors] = 1 + REASONS.index("glossy")
    rays = camera.sight_lines / np.linalg.norm(camera.sight_lines, axis=2, keepdims=True)
    cos = -np.einsum("ijk,ijk->ij", surface.normals, rays)
    slanted = (surface.confidence > 0) & (cos < np.cos(np.radians(sheet.grazing_deg - STEEP_SLACK_DEG)))
    reason[near(slanted) | (outline & ~_inside(outline))] = 1 + REASONS.index("steep")
    reason[near(_at_the_limit(depth, sheet, shutter))] = 1 + REASONS.index("range")
    if colour is not None:
        light = to_linear(colour)
        exposed = max(shutter.exposure_ms or sheet.exposure_ms[1:2])
        needed = ANSWERED * sheet.answers[0] * (INFRARED_DARK if shutter.infrared else 1.0)
        longest, reference = shutter.relative(sheet, exposed), _reference(sheet, shutter)
        reason[light.mean(axis=2) / reference * longest < needed] = 1 + REASONS.index("dark")
        reason[(light.max(axis=2) > GLARE) & (light.mean(axis=2) / reference * longest >= needed)] = 1 + REASONS.index(
            "glossy"
        )
    return reason


def _reference(sheet: Instrument, shutter: Shutter) -> float:
    """Relative light of the photograph: that of the middle exposure."""
    exposures = sorted(shutter.exposure_ms or sheet.exposure_ms[1:2])
    return shutter.relative(sheet, exposures[len(exposures) // 2])


def _sparse(body: np.ndarray, outline: np.ndarray) -> np.ndarray:
    """(h, w) bool where little of the object around was measured."""
    inside = uniform_filter(outline.astype(np.float32), WINDOW_PX)
    return uniform_filter(body.astype(np.float32), WINDOW_PX) < SPARSE * inside


def _mirrors(surface: DepthMap, sheet: Instrument) -> np.ndarray:
    """(h, w) bool where the surface around lies so that a glossy one would throw the projector's light into the camera."""
    trusted = (surface.confidence > 0)[..., None] * surface.normals
    around = np.stack([uniform_filter(trusted[..., k], AROUND_PX) for k in range(3)], axis=-1)
    length = np.linalg.norm(around, axis=2)
    weight = uniform_filter((surface.confidence > 0).astype(np.float32), AROUND_PX)
    points = surface.camera.sight_lines * sheet.standoff_mm
    to_lamp = np.array([sheet.baseline_mm, 0.0, 0.0]) - points
    half = to_lamp / np.linalg.norm(to_lamp, axis=2, keepdims=True) - points / np.linalg.norm(
        points, axis=2, keepdims=True
    )
    half /= np.maximum(np.linalg.norm(half, axis=2, keepdims=True), 1e-9)
    cos = np.einsum("ijk,ijk->ij", around, half) / np.maximum(length, 1e-9)
    return (cos > np.cos(np.radians(MIRROR_DEG))) & (length > SAME_WAY * weight) & (weight > 0)


def _inside(outline: np.ndarray) -> np.ndarray:
    """The outline without its outermost pixels, where every surface turns away."""
    return ~binary_dilation(~outline, iterations=2)


def _jumps(depth: np.ndarray) -> np.ndarray:
    """(h, w) bool of measured pixels beside a jump of depth."""
    out = np.zeros(depth.shape, bool)
    for axis in (0, 1):
        step = np.abs(np.diff(depth, axis=axis))
        both = np.minimum(np.delete(depth, -1, axis=axis), np.delete(depth, 0, axis=axis))
        jump = (both > 0) & (step > JUMP_SHARE * both)
        out |= np.insert(jump, 0, False, axis=axis) | np.insert(jump, jump.shape[axis], False, axis=axis)
    return out


def _at_the_limit(depth: np.ndarray, sheet: Instrument, shutter: Shutter) -> np.ndarray:
    """(h, w) bool of measured pixels close to an end of the working band or of the gate."""
    low, high = sheet.band_mm
    if shutter.gate_mm is not None:
        low, high = max(low, shutter.gate_mm[0]), min(high, shutter.gate_mm[1])
    slack = 0.01 * (high - low)
    return (depth > 0) & ((depth < low + slack) | (depth > high - slack))
