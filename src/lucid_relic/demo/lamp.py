"""A ship's lamp, about 400 mm: dark lacquer, glossy brass, a thin wire ring to carry it, deep inside."""

import numpy as np

from lucid_relic.capture.model import ScanModel
from lucid_relic.demo.relief import lettering, mixed, noise, stamp_at
from lucid_relic.demo.shapes import box, capsule, mesh_of, revolved, smooth_union, torus

VOXEL_MM = 1.8  # of the model: half of what the scanner resolves
TANK = [(0, 0), (86, 0), (90, 4), (90, 58), (84, 66), (60, 70), (0, 70)]
ROOF = [(0, 250), (74, 250), (78, 254), (70, 274), (48, 290), (44, 316), (50, 322), (36, 330), (0, 332)]
POSTS = 4


def field(p: np.ndarray) -> np.ndarray:
    """Signed distance of the lamp: a tank, a cage of posts round an open inside with its burner, a roof, a wire ring."""
    around = np.arctan2(p[:, 0], -p[:, 1])
    radius = np.hypot(p[:, 0], p[:, 1])
    text = 1.6 * stamp_at(lettering("SALTREACH PILOT No 3", 22.0), around * 90, p[:, 2] - 34)
    tank = revolved(p, TANK) - np.where(radius > 80, text, 0)
    d = smooth_union(tank, revolved(p, ROOF), 2)
    for k in range(POSTS):
        a = (k + 0.5) * 2 * np.pi / POSTS
        x, y = 66 * np.cos(a), 66 * np.sin(a)
        d = smooth_union(d, capsule(p, (x, y, 64), (x, y, 256), 6, 5), 3)
    for height in (120, 190):
        d = smooth_union(d, torus(p, (0, 0, height), 2, 70, 2.6), 1.5)
    burner = smooth_union(capsule(p, (0, 0, 68), (0, 0, 104), 24, 15), torus(p, (0, 0, 106), 2, 13, 4), 3)
    d = smooth_union(d, burner, 3)
    d = smooth_union(d, box(p, (0, -92, 40), (17, 9, 12), 3), 3)  # the filler's lid, on the front
    d = smooth_union(d, capsule(p, (88, 0, 50), (112, 0, 62), 6, 8), 3)  # the wick's knob, on one side
    for side in (-1, 1):
        d = smooth_union(d, capsule(p, (46 * side, 0, 300), (50 * side, 0, 318), 7, 6), 2)
    return np.maximum(np.minimum(d, _wire(p)), -p[:, 2])


def _wire(p: np.ndarray) -> np.ndarray:
    """The carrying ring: a wire of 3.2 mm bent to a bow of 50 mm radius above the roof."""
    return torus(p, (0, 0, 350), 1, 50, 1.6)


def model() -> ScanModel:
    """Black lacquer, worn to brass at the edges."""
    mesh = mesh_of(field, (-104, -108, -2), (126, 100, 404), VOXEL_MM)
    p = mesh.vertices
    worn = np.clip(noise(p, 60, 91) * 3 - 1.7, 0, 1)
    brass = np.clip(worn + (_wire(p) < 1.0) + (np.hypot(p[:, 0], p[:, 1]) < 30) * (p[:, 2] < 115), 0, 1)
    colour = mixed((0.022, 0.020, 0.024), (0.30, 0.20, 0.08), brass)
    gloss = (0.75 - 0.25 * brass).astype(np.float32)
    return ScanModel(mesh, colour.astype(np.float32), gloss)
