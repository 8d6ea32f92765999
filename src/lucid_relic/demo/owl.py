"""A harbour-master's inkwell in the shape of an owl: glazed stoneware, 92 mm, rich relief."""

import numpy as np

from lucid_relic.capture.model import ScanModel
from lucid_relic.demo.relief import lettering, mixed, noise, stamp_at
from lucid_relic.demo.shapes import capsule, ellipsoid, mesh_of, smooth_cut, smooth_union, sphere, torus

VOXEL_MM = 0.44  # of the model: half of what the scanner resolves
SEAM_Z = 58.0  # mm, where the lid meets the well


def _feathers(p: np.ndarray) -> np.ndarray:
    """Overlapping scales in staggered rows round the body, up to 0.9 mm high."""
    row = (SEAM_Z - 4 - p[:, 2]) / 5.2
    k = np.floor(row)
    around = np.arctan2(p[:, 1], p[:, 0]) / (2 * np.pi) * 26 + 0.5 * (k % 2)
    across = np.abs(around - np.floor(around) - 0.5) * 2
    along = row - k
    edge = along + 0.55 * across**2
    rib = 0.12 * np.cos(across * np.pi * 4)
    scale = np.where(edge < 1, 0.9 * edge + rib, 0.05)
    fade = np.clip((SEAM_Z - 5 - p[:, 2]) / 4, 0, 1) * np.clip((p[:, 2] - 9) / 5, 0, 1)
    return scale * fade * np.clip((p[:, 1] * 0.12 + 1.5), 0.35, 1)


def field(p: np.ndarray) -> np.ndarray:
    """Signed distance of the owl; it looks towards -y."""
    body = ellipsoid(p, (0, 0, 33), (26, 24, 35)) - _feathers(p)
    head = ellipsoid(p, (0, -1, 67), (23.5, 21, 17))
    d = smooth_union(body, head, 7)
    for side in (-1, 1):
        d = smooth_union(d, capsule(p, (12 * side, 0, 76), (16 * side, 1, 90), 6.5, 1.4), 5)
        wing = ellipsoid(p, (24 * side, 4, 34), (6.5, 15, 23))
        lines = 0.45 * np.sin((p[:, 2] * 0.75 + p[:, 1] * 0.9) * 1.35)
        d = smooth_union(d, wing - lines * np.clip((45 - p[:, 2]) / 10, 0, 1), 2.5)
        eye = (9.5 * side, -19.5, 68)
        d = smooth_cut(d, sphere(p, (eye[0], eye[1] - 1.0, eye[2]), 6.4), 1.2)
        d = np.minimum(d, sphere(p, (eye[0], eye[1] + 2.6, eye[2]), 5.4))
        d = smooth_union(d, torus(p, (eye[0], eye[1] + 0.6, eye[2]), 1, 8.2, 1.7), 1.2)
        d = np.minimum(d, torus(p, (eye[0], eye[1] - 0.2, eye[2]), 1, 5.6, 0.4))
        for toe in (-1, 0, 1):
            x = 10 * side + 4.2 * toe
            d = smooth_union(d, capsule(p, (x, -16, 4.5), (x * 1.08, -25, 2.4), 3.6, 2.0), 1.6)
    d = smooth_union(d, capsule(p, (0, -21, 66), (0, -26.5, 58), 3.6, 0.9), 1.5)
    d = smooth_cut(d, np.abs(p[:, 2] - SEAM_Z) - 0.45 + 0.35 * np.maximum(-d - 1.3, 0), 0.4)
    base = np.maximum(np.hypot(p[:, 0], p[:, 1]) - 25.5, np.abs(p[:, 2] - 3) - 3)
    around = np.arctan2(p[:, 0], p[:, 1]) * 25.5
    base = base - 0.5 * stamp_at(lettering("HARBOUR MASTER · SALTREACH", 4.2), around, p[:, 2] - 3)
    d = smooth_union(d, base, 2.0)
    hollow = ellipsoid(p, (0, 17, 79), (5, 5, 9))
    return np.maximum(smooth_cut(d, hollow, 1.0), -p[:, 2])


def model() -> ScanModel:
    """The owl with teal glaze, worn edges and golden eyes."""
    mesh = mesh_of(field, (-36, -34, -1), (36, 30, 94), VOXEL_MM)
    p = mesh.vertices
    glaze = mixed((0.10, 0.27, 0.30), (0.22, 0.45, 0.42), noise(p, 14, 3))
    worn = np.clip((_feathers(p) - 0.62) * 3, 0, 1) * 0.6
    glaze = glaze * (1 - worn[:, None]) + np.float32([0.42, 0.33, 0.2]) * worn[:, None]
    belly = np.clip((-p[:, 1] - 14) / 8, 0, 1) * np.clip((52 - p[:, 2]) / 6, 0, 1)
    glaze = glaze * (1 - 0.55 * belly[:, None]) + np.float32([0.5, 0.46, 0.34]) * 0.55 * belly[:, None]
    glaze = _painted(p, glaze)
    gloss = np.clip(0.25 + 0.3 * noise(p, 9, 8), 0, 0.6) * (p[:, 2] > 1.0)
    return ScanModel(mesh, np.clip(glaze, 0.01, 0.9).astype(np.float32), gloss.astype(np.float32))


def _painted(p: np.ndarray, colour: np.ndarray) -> np.ndarray:
    out = colour.copy()
    for side in (-1, 1):
        away = np.hypot(p[:, 0] - 9.5 * side, p[:, 2] - 68)
        front = p[:, 1] < -12
        out[front & (away < 5.7)] = (0.62, 0.42, 0.08)
        out[front & (away < 2.4)] = (0.05, 0.04, 0.05)
    beak = (np.abs(p[:, 0]) < 4) & (p[:, 1] < -20.5) & (p[:, 2] > 56) & (p[:, 2] < 69)
    out[beak] = (0.45, 0.28, 0.10)
    out[p[:, 2] < 6] = out[p[:, 2] < 6] * 0.4 + np.float32([0.34, 0.26, 0.18]) * 0.6
    return out
