"""What a virtual head makes of a view: a depth image spoiled as real ones are, and a photograph.

A working band, noise growing with distance and slant, dropout at grazing angles, on dark, bright, glossy and clear
surfaces and in the projector's shadow, torn pixels at depth jumps; a shaded photograph with its own exposure.
"""

from dataclasses import dataclass

import numpy as np

from lucid_relic.capture.scene import PLATE, ScanScene
from lucid_relic.capture.traits import ScannerTraits
from lucid_relic.light.srgb import to_srgb
from lucid_relic.types import Camera

PLATE_ALBEDO = 0.16  # of the plate: dark grey, as matt tables are
LIGHT_BESIDE_MM = 120.0  # from the camera to its lamp
GLINT, GLINT_POWER = 3.0, 24  # light and width of a glossy surface's mirror image of the projector
INFRARED_FLOOR, INFRARED_GLOSS, INFRARED_NOISE = 0.22, 0.4, 1.3  # what pigments, gloss and noise become in infrared
THROUGH_GLASS_MM = 1.5  # scatter of the little that clear surfaces answer with
BACKGROUND = 0.012  # linear light of the dark behind


@dataclass(frozen=True)
class Surface:
    """What the rays of all pixels met, end to end: albedo (n, 3), the others (n,); normal (n, 3) of the plate's frame."""

    points: np.ndarray
    normal: np.ndarray
    albedo: np.ndarray
    gloss: np.ndarray
    clear: np.ndarray
    triangle: np.ndarray
    hit: np.ndarray
    z: np.ndarray
    cos: np.ndarray
    directions: np.ndarray


def look(scene: ScanScene, camera: Camera, T_plate_camera: np.ndarray) -> Surface:
    """Cast the rays of all pixels from a place over the plate."""
    rays = camera.sight_lines.reshape(-1, 3)
    length = np.linalg.norm(rays, axis=1)
    directions = (rays / length[:, None]) @ T_plate_camera[:3, :3].T
    origin = T_plate_camera[:3, 3]
    distance, triangle, bary = scene.cast(origin, directions)
    hit = np.isfinite(distance)
    z = np.where(hit, distance / length, 0.0)
    normal, albedo, gloss, clear = _surface(scene, triangle, bary)
    cos = np.abs(np.einsum("ij,ij->i", normal, directions))
    points = origin + np.where(hit, distance, 0.0)[:, None] * directions
    if scene.dots is not None:
        scene.dots.paint(points, albedo, camera, T_plate_camera)
    return Surface(points, normal, albedo, gloss, clear, triangle, hit, z, cos, directions)


def render_view(
    scene: ScanScene, camera: Camera, traits: ScannerTraits, T_plate_camera: np.ndarray, rng: np.random.Generator
) -> tuple[np.ndarray, np.ndarray, float]:
    """Depth (h, w) mm, colour (h, w, 3) uint8 and clipped share seen from a place over the plate."""
    shape = (camera.height, camera.width)
    seen = look(scene, camera, T_plate_camera)
    depth = _spoil_depth(scene, seen, T_plate_camera, traits, rng, shape)
    colour, clipped = photograph(seen, T_plate_camera, traits, rng)
    return depth, colour.reshape(*shape, 3), clipped


def _surface(scene: ScanScene, triangle: np.ndarray, bary: np.ndarray) -> tuple[np.ndarray, ...]:
    count, model = len(triangle), scene.model
    normal = np.tile([0.0, 0.0, 1.0], (count, 1))
    albedo = np.full((count, 3), PLATE_ALBEDO)
    gloss, clear = np.zeros(count), np.zeros(count)
    on = triangle >= 0
    faces = model.mesh.faces[triangle[on]]
    u, v = bary[on, 0], bary[on, 1]
    share = np.stack([1 - u - v, u, v], axis=1)
    blend = lambda values: np.einsum("nk,nk...->n...", share, values[faces])  # noqa: E731
    smooth = blend(scene.normals)
    normal[on] = smooth / np.maximum(np.linalg.norm(smooth, axis=1, keepdims=True), 1e-9)
    albedo[on] = blend(model.albedo)
    gloss[on] = blend(model.gloss)
    if model.clear is not None:
        clear[on] = blend(model.clear)
    return normal, albedo, gloss, clear


def _spoil_depth(
    scene: ScanScene,
    seen: Surface,
    T_plate_camera: np.ndarray,
    traits: ScannerTraits,
    rng: np.random.Generator,
    shape: tuple[int, int],
) -> np.ndarray:
    """Noise, dropout, working band and torn pixels on a true depth image."""
    z, cos, gloss = seen.z, seen.cos, seen.gloss
    slant = 1.0 / np.maximum(cos, 0.15)
    sigma = traits.noise_mm * (z / traits.standoff_mm) ** 2 * (0.75 + 0.25 * slant)
    brightness = seen.albedo.mean(axis=1)
    if traits.infrared:
        brightness, gloss = INFRARED_FLOOR + (1 - INFRARED_FLOOR) * brightness, INFRARED_GLOSS * gloss
        sigma = sigma * INFRARED_NOISE
    measured = z * (1 + traits.scale_error) + sigma * rng.normal(size=z.shape)
    answer = brightness * cos * (1 - 0.5 * gloss) * (1 - seen.clear) * traits.exposure
    chance = np.clip(answer / traits.dark_albedo - 0.25, 0, 1)
    mirror = gloss * np.clip((cos - 0.97) / 0.03, 0, 1)
    lost = rng.random(z.shape) > chance * (1 - mirror)
    lost |= cos < np.cos(np.radians(traits.grazing_deg))
    lost |= (z < traits.band_mm[0]) | (z > traits.band_mm[1])
    if traits.gate_mm is not None:
        lost |= (measured < traits.gate_mm[0]) | (measured > traits.gate_mm[1])
    if np.isfinite(traits.bright_albedo) or traits.baseline_mm:
        lost |= _blinded(scene, seen, gloss, answer, T_plate_camera, traits)
    if seen.clear.any():
        measured = measured + THROUGH_GLASS_MM * seen.clear * rng.normal(size=z.shape)
    image = np.where(lost, 0.0, measured).reshape(shape)
    return _tear_edges(image, z.reshape(shape), traits, rng).astype(np.float32)


def _blinded(
    scene: ScanScene, seen: Surface, gloss: np.ndarray, answer: np.ndarray, T_plate_camera: np.ndarray, traits: ScannerTraits
) -> np.ndarray:  # fmt: skip
    """(n,) bool of pixels that the projector does not reach, or whose light is more than the sensor takes."""
    projector = T_plate_camera[:3, 3] + T_plate_camera[:3, 0] * traits.baseline_mm
    to_lamp = projector - seen.points
    to_lamp /= np.maximum(np.linalg.norm(to_lamp, axis=1, keepdims=True), 1e-9)
    half = to_lamp - seen.directions
    half /= np.maximum(np.linalg.norm(half, axis=1, keepdims=True), 1e-9)
    lobe = np.clip(np.einsum("ij,ij->i", seen.normal, half), 0, 1) ** GLINT_POWER
    blind = answer + GLINT * gloss * lobe * traits.exposure > traits.bright_albedo
    if traits.baseline_mm:
        on = np.flatnonzero(seen.hit & (seen.triangle != PLATE))
        blind[on] |= scene.in_shadow(seen.points[on], seen.normal[on], projector)
    return blind


def _tear_edges(image: np.ndarray, truth: np.ndarray, traits: ScannerTraits, rng: np.random.Generator) -> np.ndarray:
    """Some pixels at a depth jump return a distance between front and back."""
    out = image.copy()
    step = np.zeros_like(truth)
    step[:, :-1] = truth[:, 1:] - truth[:, :-1]
    jump = (np.abs(step) > 3.0) & (truth > 0) & (truth + step > 0)
    torn = jump & (rng.random(truth.shape) < traits.torn_share) & (image > 0)
    out[torn] += step[torn] * rng.random(torn.sum())
    return out


def photograph(
    seen: Surface, T_plate_camera: np.ndarray, traits: ScannerTraits, rng: np.random.Generator
) -> tuple[np.ndarray, float]:
    """A photograph (n, 3) uint8 lit by two soft lamps beside the head and a little light from all around."""
    points, directions = seen.points, seen.directions
    light = np.full(len(points), 0.30)
    glare = np.zeros(len(points))
    for side in (-1.0, 1.0):
        lamp = T_plate_camera[:3, 3] + T_plate_camera[:3, 0] * side * LIGHT_BESIDE_MM
        to_lamp = lamp - points
        to_lamp /= np.linalg.norm(to_lamp, axis=1, keepdims=True)
        light += 0.42 * np.clip(np.einsum("ij,ij->i", seen.normal, to_lamp), 0, 1)
        half = to_lamp - directions
        half /= np.linalg.norm(half, axis=1, keepdims=True)
        glare += np.clip(np.einsum("ij,ij->i", seen.normal, half), 0, 1) ** 60
    linear = seen.albedo * light[:, None] + (0.35 * seen.gloss * glare)[:, None]
    linear = linear * (traits.exposure * 1.15) * np.array(traits.lamp) + rng.normal(size=linear.shape) * 0.003
    linear[~seen.hit] = BACKGROUND
    clipped = float((linear[seen.hit] >= 1.0).any(axis=1).mean()) if seen.hit.any() else 0.0
    return to_srgb(linear), clipped
