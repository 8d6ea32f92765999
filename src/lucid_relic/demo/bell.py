"""A fog bell: cast bronze with verdigris, 141 mm, nearly symmetric about its axis, dark and shiny."""

import numpy as np

from lucid_relic.capture.model import ScanModel
from lucid_relic.demo.relief import lettering, mixed, noise, stamp_at
from lucid_relic.demo.shapes import box, mesh_of, revolved, smooth_union, torus

VOXEL_MM = 0.66  # of the model: half of what the scanner resolves
PROFILE = [
    (0, 112), (12, 112), (24, 109), (31, 103), (34, 94), (35.5, 80), (37.5, 62), (41, 44), (46, 28),
    (52, 15), (58.5, 5), (60.5, 1.5), (59.5, 0), (54, 0), (50, 8), (43, 22), (37, 40), (33.5, 60),
    (31, 82), (28, 96), (20, 103), (0, 105),
]  # fmt: skip


def field(p: np.ndarray) -> np.ndarray:
    """Signed distance of the bell, mouth down."""
    radius = np.hypot(p[:, 0], p[:, 1])
    around = np.arctan2(p[:, 0], -p[:, 1])
    d = revolved(p, PROFILE)
    outer = radius > 0.96 * (35 + np.clip(62 - p[:, 2], 0, 62) * 0.28)
    text = 0.9 * stamp_at(lettering("THINGS THE TIDE LEFT", 9.0), around * 39, p[:, 2] - 58)
    date = 0.8 * stamp_at(
        lettering("SALTREACH LIGHT 1871", 6.0), (np.abs(around) - np.pi) * -np.sign(around) * 43, p[:, 2] - 37
    )
    bands = sum(0.8 * np.exp(-(((p[:, 2] - z) / 0.9) ** 2)) for z in (70, 46, 24, 12))
    wave = 0.7 * np.cos(around * 24) * np.exp(-(((p[:, 2] - 84) / 3) ** 2))
    d = d - np.where(outer | (p[:, 2] > 76), text + date + bands + wave, 0)
    d = smooth_union(d, box(p, (0, 0, 115), (15, 7, 4), 2), 3)
    d = smooth_union(d, torus(p, (0, 0, 124), 1, 12, 4.2), 3)
    d = smooth_union(d, torus(p, (0, 0, 121), 0, 8, 3.0), 2)
    nick = box(p, (41, -41, 2), (4, 4, 5), 1)
    return np.maximum(d, -nick)


def model() -> ScanModel:
    """The bell with bronze where hands touched it and verdigris where the sea did."""
    mesh = mesh_of(field, (-64, -64, -2), (64, 64, 143), VOXEL_MM)
    p = mesh.vertices
    green = np.clip(noise(p, 26, 21) * 2.6 - 0.85, 0, 1)
    green = np.maximum(green, np.clip((noise(p, 9, 5) - 0.62) * 5, 0, 1))
    colour = mixed((0.085, 0.055, 0.030), (0.16, 0.34, 0.27), green)
    streak = np.clip(noise(p * np.float32([1, 1, 0.12]), 12, 31) * 3 - 1.9, 0, 1)[:, None]
    colour = colour * (1 - 0.5 * streak) + np.float32([0.3, 0.38, 0.3]) * 0.5 * streak
    gloss = (0.55 * (1 - green)).astype(np.float32)
    return ScanModel(mesh, colour.astype(np.float32), gloss)
