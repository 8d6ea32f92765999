"""A rope fender, 210 mm: a bag of plaited manila, soft relief of thousands of strands and no symmetry."""

import numpy as np

from lucid_relic.capture.model import ScanModel
from lucid_relic.demo.relief import mixed, noise
from lucid_relic.demo.shapes import capsule, ellipsoid, mesh_of, smooth_union, torus
from lucid_relic.mending.pieces import keep_largest

VOXEL_MM = 0.9  # of the model: half of what the scanner resolves


def _plait(p: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Height (mm) of two crossing sets of rope over the body, and the strands twisted in them (0-1)."""
    q = p - np.float32([0, 0, 84])
    bulge = noise(p, 90, 101) - 0.5
    around = np.arctan2(q[:, 1], q[:, 0]) + 0.35 * bulge
    up = q[:, 2] / 15.0 + 0.8 * bulge
    right, left = around * 9 / np.pi + up, around * 9 / np.pi - up
    over = np.cos(np.pi * (right + left)) > 0
    height = lambda s: np.sqrt(np.maximum(1 - (2 * (s - np.round(s))) ** 2, 0))  # noqa: E731
    one, other = height(right) + 0.35 * over, height(left) + 0.35 * ~over
    strand = 0.5 + 0.5 * np.sin(
        np.where(one > other, left, right) * 2 * np.pi * 3 + np.where(one > other, right, left) * 9
    )
    return 3.6 * np.maximum(one, other) + 0.35 * strand, strand


def field(p: np.ndarray) -> np.ndarray:
    """Signed distance of the fender: a sagging bag, a bent eye above, a frayed tail below."""
    body = ellipsoid(p, (3, -2, 82), (56, 51, 80))
    body = smooth_union(body, ellipsoid(p, (-14, 9, 56), (48, 50, 52)), 12)
    d = (body - _plait(p)[0]) * 0.8
    eye = torus(p, (6, -3, 186), 1, 17, 6.5) - 0.8 * noise(p, 6, 111)
    d = smooth_union(d, eye, 5)
    d = smooth_union(d, capsule(p, (-30, 22, 12), (-62, 44, 6), 8, 4.5) - 1.2 * noise(p, 5, 121), 4)
    return np.maximum(d, -p[:, 2])


def model() -> ScanModel:
    """Grey-brown manila, darker between the strands and where it was wet."""
    mesh, _ = keep_largest(mesh_of(field, (-76, -66, -2), (72, 62, 214), VOXEL_MM))
    p = mesh.vertices
    _, strand = _plait(p)
    colour = mixed((0.13, 0.10, 0.065), (0.42, 0.34, 0.22), 0.25 + 0.4 * strand + 0.5 * (noise(p, 12, 131) - 0.3))
    wet = np.clip((46 - p[:, 2] + 30 * noise(p, 35, 141)) / 30, 0, 1)[:, None]
    colour = colour * (1 - 0.45 * wet)
    return ScanModel(mesh, colour.astype(np.float32), np.full(len(p), 0.04, np.float32))
