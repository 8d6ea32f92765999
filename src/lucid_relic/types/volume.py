"""The field that a surface is made from."""

from dataclasses import dataclass

import numpy as np


@dataclass(frozen=True)
class Volume:
    """A sparse truncated signed distance field in blocks of 8³ voxels.

    coords (b, 3) int32 block indices; distance (b, 512) float32 in units of the truncation
    distance, positive outside; weight (b, 512) float32; colour (b, 512, 3) uint8 sRGB. Voxel
    (x, y, z) of a block sits at flat index (x·8 + y)·8 + z; voxel (0, 0, 0) of block (0, 0, 0)
    is at `origin`.
    """

    origin: np.ndarray
    voxel_mm: float
    truncation_mm: float
    coords: np.ndarray
    distance: np.ndarray
    weight: np.ndarray
    colour: np.ndarray
