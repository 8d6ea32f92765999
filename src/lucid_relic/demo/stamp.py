"""A customs stamp: carved soapstone, 46 mm, flat faces and fine lettering."""

import numpy as np

from lucid_relic.capture.model import ScanModel
from lucid_relic.demo.relief import lettering, mixed, noise, stamp_at
from lucid_relic.demo.shapes import box, capsule, mesh_of, smooth_union, sphere, torus

VOXEL_MM = 0.16  # of the model: half of what the scanner resolves


def field(p: np.ndarray) -> np.ndarray:
    """Signed distance of the stamp, its seal face down."""
    block = box(p, (0, 0, 11), (13, 11, 11), 0.6)
    front = 0.4 * stamp_at(lettering("CUSTOMS", 4.4), p[:, 0], p[:, 2] - 15)
    front += 0.35 * stamp_at(lettering("No 46", 3.6), p[:, 0], p[:, 2] - 7)
    back = 0.4 * stamp_at(lettering("SALTREACH", 3.6), -p[:, 0], p[:, 2] - 11)
    left = 0.4 * stamp_at(lettering("DUTY", 4.0), -p[:, 1], p[:, 2] - 14)
    left += 0.4 * stamp_at(lettering("PAID", 4.0), -p[:, 1], p[:, 2] - 7)
    seal = 0.5 * stamp_at(lettering("S·M", 8.0), -p[:, 0], p[:, 1])
    block = block + np.where(p[:, 1] < -10, front, 0) + np.where(p[:, 1] > 10, back, 0)
    block = block + np.where(p[:, 0] < -12, left, 0)
    block = block + np.where(p[:, 2] < 1.0, seal, 0)
    for z in (2.2, 19.8):
        groove = np.abs(p[:, 2] - z) - 0.35
        block = np.maximum(block, -np.maximum(groove, -block - 0.5))
    neck = capsule(p, (0, 0, 21), (0, 0, 30), 7.5, 5.0)
    around = np.arctan2(p[:, 1], p[:, 0])
    knob = sphere(p, (0, 0, 36.5), 8.6) - 0.5 * np.cos(around * 9 + p[:, 2] * 0.55)
    rope = torus(p, (0, 0, 28.6), 2, 6.6, 1.7) - 0.3 * np.cos(
        around * 22 + 3 * np.arctan2(p[:, 2] - 28.6, np.hypot(p[:, 0], p[:, 1]) - 6.6)
    )
    d = smooth_union(block, neck, 1.2)
    d = smooth_union(d, rope, 0.5)
    return smooth_union(d, knob, 1.0)


def model() -> ScanModel:
    """The stamp in grey-green soapstone with dark veins and ink left in the seal."""
    mesh = mesh_of(field, (-16, -14, -1.5), (16, 14, 47), VOXEL_MM)
    p = mesh.vertices
    vein = np.abs(noise(p, 17, 41) - 0.5)
    colour = mixed((0.10, 0.12, 0.10), (0.40, 0.44, 0.35), np.clip(vein * 9, 0, 1))
    colour *= (0.85 + 0.3 * noise(p, 2.5, 51))[:, None]
    ink = np.clip((0.8 - p[:, 2]) / 0.6, 0, 1)[:, None] * 0.7
    colour = colour * (1 - ink) + np.float32([0.16, 0.035, 0.04]) * ink
    return ScanModel(mesh, colour.astype(np.float32), np.full(len(p), 0.12, np.float32))
