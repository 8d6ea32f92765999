"""A net float of green glass, 120 mm, in its knotted net: clear glass is hardly measured, under matting spray it is."""

import numpy as np

from lucid_relic.capture.model import ScanModel
from lucid_relic.demo.relief import mixed, noise
from lucid_relic.demo.shapes import capsule, mesh_of, smooth_union, sphere, torus

VOXEL_MM = 0.7  # of the model: half of what the scanner resolves
RADIUS, MIDDLE = 57.0, 60.0
MERIDIANS, PARALLELS = 8, (-38.0, -4.0, 30.0)  # of the net: cords round the float, and their heights above its middle


def _net(p: np.ndarray) -> np.ndarray:
    """Distance to the cords, which run over the glass."""
    q = p - np.float32([0, 0, MIDDLE])
    around = np.arctan2(q[:, 1], q[:, 0])
    flat, out = np.hypot(q[:, 0], q[:, 1]), np.linalg.norm(q, axis=1) - RADIUS
    part = np.float32(2 * np.pi / MERIDIANS)
    # Cords lean, so that the net has no mirror symmetry.
    lean = around + 0.006 * q[:, 2]
    across = (lean - np.round(lean / part) * part) * flat
    d = np.hypot(across, out) - 1.5
    for k, height in enumerate(PARALLELS):
        wave = 1.6 * np.sin(around * MERIDIANS + k)
        d = np.minimum(d, np.hypot(q[:, 2] - height - wave, out) - 1.6)
    return d


def field(p: np.ndarray) -> np.ndarray:
    """Signed distance of the float: a blown ball with its seal and knots, in its net, the becket on top."""
    glass = sphere(p, (0, 0, MIDDLE), RADIUS) + 0.5 * (noise(p, 40, 61) - 0.5)
    seal = sphere(p, (26, -14, MIDDLE + 49), 8.5)
    d = smooth_union(glass, seal, 4)
    d = smooth_union(d, _net(p), 0.8)
    d = smooth_union(d, torus(p, (4, 2, MIDDLE + 61), 1, 9, 2.4), 1.5)
    d = smooth_union(d, capsule(p, (12, 2, MIDDLE + 57), (34, 20, MIDDLE + 44), 2.6, 1.8), 1.2)
    ring = torus(p, (0, 0, 4.0), 2, 22, 3.5)
    return np.maximum(smooth_union(d, ring, 1.5), -p[:, 2] + 0.6)


def model() -> ScanModel:
    """Green glass in tarred cord."""
    mesh = mesh_of(field, (-64, -64, -1), (64, 64, 136), VOXEL_MM)
    p = mesh.vertices
    glass_only = np.linalg.norm(p - np.float32([0, 0, MIDDLE]), axis=1) < RADIUS + 0.75
    glass_only |= np.linalg.norm(p - np.float32([26, -14, MIDDLE + 49]), axis=1) < 8.9
    cord = ~glass_only | (_net(p) < 0.3) | (p[:, 2] < 8)
    colour = mixed((0.05, 0.20, 0.11), (0.10, 0.32, 0.20), noise(p, 30, 7))
    colour[cord] = mixed((0.20, 0.15, 0.09), (0.36, 0.28, 0.18), noise(p[cord], 5, 71))
    gloss = np.where(cord, 0.05, 0.85).astype(np.float32)
    clear = np.where(cord, 0.0, 0.94).astype(np.float32)
    return ScanModel(mesh, colour.astype(np.float32), gloss, clear)


def matted() -> ScanModel:
    """The float under matting spray."""
    return model().matted()
