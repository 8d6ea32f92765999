"""What a virtual camera sees of a board, a colour card or another flat picture."""

from functools import lru_cache

import cv2
import numpy as np

from lucid_relic.geometry.rigid import inverse
from lucid_relic.light.srgb import to_srgb
from lucid_relic.types import Camera

FINE = 3  # looks a pixel each way
BEHIND = 0.06  # linear light of what is behind
OUTSIDE = -9.0  # pixels: none of the picture's


def view_of_flat(
    picture: np.ndarray,
    px_per_mm: float,
    camera: Camera,
    T_camera_flat: np.ndarray,
    rng: np.random.Generator,
    noise: float = 0.004,
    behind: float = BEHIND,
) -> np.ndarray:
    """(h, w) or (h, w, 3) uint8 sRGB view of a flat picture, of linear light 0-1, that lies at x, y ≥ 0 of its frame.

    The camera's distortion is in it; noise is that of a pixel in linear light.
    """
    eye = inverse(T_camera_flat)
    light = np.ascontiguousarray(picture, np.float32)
    total = np.zeros((camera.height, camera.width) + picture.shape[2:], np.float32)
    steps = (np.arange(FINE) - (FINE - 1) / 2) / FINE
    way, along_u, along_v = (lines @ eye[:3, :3].T for lines in _sight(camera))
    for du in steps:
        for dv in steps:
            fine = way + du * along_u + dv * along_v
            with np.errstate(divide="ignore", invalid="ignore"):
                t = -eye[2, 3] / fine[..., 2]
                at = (eye[:2, 3] + t[..., None] * fine[..., :2]) * px_per_mm - 0.5
            at = np.where((t > 0)[..., None], at, OUTSIDE).astype(np.float32)
            total += cv2.remap(
                light, at, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT, borderValue=(behind,) * 4
            )
    linear = total / FINE**2
    return to_srgb(linear + noise * rng.normal(size=linear.shape))


@lru_cache(maxsize=2)
def _sight(camera: Camera) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """(h, w, 3) ways of the pixels' middles, and how they change from pixel to pixel along u and v."""
    lines = camera.sight_lines
    return lines, np.gradient(lines, axis=1), np.gradient(lines, axis=0)
