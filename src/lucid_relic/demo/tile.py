"""A ballast tile: fired clay with a raised wave and a maker's line, 112 mm long, one corner chipped."""

import numpy as np

from lucid_relic.capture.model import ScanModel
from lucid_relic.demo.relief import lettering, mixed, noise, stamp_at
from lucid_relic.demo.shapes import box, mesh_of, smooth_cut, sphere

VOXEL_MM = 0.5  # of the model: half of what the scanner resolves


def field(p: np.ndarray) -> np.ndarray:
    """Signed distance of the tile, lying on its back."""
    slab = box(p, (0, 0, 9), (56, 36, 9), 2.5)
    crest = p[:, 1] - 6 - 5 * np.sin(p[:, 0] / 7.5)
    wave = 1.1 * np.exp(-((crest / 2.2) ** 2)) + 0.7 * np.exp(-(((crest + 7) / 1.6) ** 2))
    line = 0.8 * stamp_at(lettering("SALTREACH BRICK & TILE", 6.0), p[:, 0], p[:, 1] + 20)
    frame = 0.8 * np.exp(-(((np.maximum(np.abs(p[:, 0]) - 20, np.abs(p[:, 1])) - 31) / 0.9) ** 2))
    relief = np.maximum(wave * (np.abs(p[:, 0]) < 46), np.maximum(line, frame))
    slab = slab - np.where(p[:, 2] > 15, relief, 0) - 0.25 * (noise(p, 6, 61) - 0.5)
    return smooth_cut(slab, sphere(p, (60, -40, 18), 15), 1.5)


def model() -> ScanModel:
    """The tile in terracotta, paler on the relief, darker where it was fired hardest."""
    mesh = mesh_of(field, (-62, -42, -3), (62, 42, 23), VOXEL_MM)
    p = mesh.vertices
    colour = mixed((0.30, 0.10, 0.05), (0.46, 0.20, 0.10), noise(p, 30, 71))
    pale = np.clip((p[:, 2] - 18.1) / 0.9, 0, 1)[:, None] * 0.5
    colour = colour * (1 - pale) + np.float32([0.55, 0.36, 0.22]) * pale
    return ScanModel(mesh, colour.astype(np.float32), np.full(len(p), 0.05, np.float32))
