"""Where an object stands on its plate: a base that nothing saw ends at the plate and is not hollow.

A place of the plate that no frame saw, though frames saw the plate around it, is covered. It is a foot where the walls around it
come down to the plate on all sides; under a belly one sees between the legs, and there the walls end higher up. The
field gets the plate as its surface over the feet, so that closing fills what stands on them.
"""

import numpy as np
from scipy.ndimage import binary_dilation, binary_erosion, label

from lucid_relic.geometry import _kernels
from lucid_relic.geometry.rigid import basis_from_z, inverse
from lucid_relic.types import PassState, ScanState, Volume

SEEN_VOXELS = 2.0  # from the plate, along the look: nearer a frame saw the plate itself
LEAST_FRAMES = 2  # that saw a place of the plate, or looked through it: one may be torn
WALL_MM, WALL_VOXELS = 2.0, 4.0  # above the plate: so far up a stand cut may leave the lowest part of a wall away
RIM_CELLS = 5  # beside a covered place: its walls hide the plate right at them only from some sides
WALLED = 0.85  # of a foot's outline has a wall
SMALLEST_CELLS = 24  # of a foot: less is noise
LAYERS = (0.5, 1.5)  # voxels above the plate between which the inside is fixed


def mark_feet(
    state: ScanState, volume: Volume, low: np.ndarray, field: np.ndarray, known: np.ndarray, fixed: np.ndarray
) -> int:
    """Fix the inside right above the plates wherever a foot stands; returns how many feet there are.

    field, known and fixed (nx, ny, nz) are those of closing, whose voxel (0, 0, 0) is block `low`'s first one.
    """
    feet = 0
    for scan in state.used_passes():
        if scan.plate is None or not len(scan.frames_used()):
            continue
        grid = _PlateGrid(scan, volume, low, known)
        covered = ~grid.seen(scan)
        walls = binary_dilation(grid.walled(field, known), iterations=RIM_CELLS)
        groups, count = label(covered)
        for number in range(1, count + 1):
            foot = groups == number
            edge = foot & ~binary_erosion(foot)
            outside = edge[[0, -1]].any() or edge[:, [0, -1]].any()
            if outside or foot.sum() < SMALLEST_CELLS or walls[edge].mean() < WALLED:
                continue
            feet += 1
            grid.fix_above(foot, field, fixed)
    return feet


class _PlateGrid:
    """Places on the plate of a pass, a voxel apart, under all of the object that was measured."""

    def __init__(self, scan: PassState, volume: Volume, low: np.ndarray, known: np.ndarray) -> None:
        self.voxel = volume.voxel_mm
        self.corner = volume.origin + low * 8 * self.voxel
        self.truncation = volume.truncation_mm
        turn = scan.T_object_pass[:3, :3]
        self.axes = basis_from_z(turn @ scan.plate[:3])
        offset = scan.plate[3] + self.axes[:, 2] @ scan.T_object_pass[:3, 3]
        places = (np.argwhere(known)[::7] * self.voxel + self.corner) @ self.axes[:, :2]
        first, last = places.min(axis=0) - 2 * RIM_CELLS * self.voxel, places.max(axis=0) + 2 * RIM_CELLS * self.voxel
        u, v = (np.arange(a, b, self.voxel) for a, b in zip(first, last, strict=True))
        flat = np.stack([*np.meshgrid(u, v, indexing="ij"), np.full((len(u), len(v)), offset)], axis=2)
        self.points = flat @ self.axes.T

    def seen(self, scan: PassState) -> np.ndarray:
        """Which places some frames of the pass saw the plate at, or looked through."""
        flat = self.points.reshape(-1, 3)
        agree, through = np.zeros(len(flat), np.int64), np.zeros(len(flat), np.int64)
        margin = SEEN_VOXELS * self.voxel + 3 * scan.noise_mm
        for index in map(int, scan.frames_used()):
            pose = inverse(scan.T_object_camera(index))
            _kernels.see_through(flat, pose, scan.camera.as_vector, scan.source.depth(index), margin, agree, through)
        return (agree + through >= LEAST_FRAMES).reshape(self.points.shape[:2])

    def walled(self, field: np.ndarray, known: np.ndarray) -> np.ndarray:
        """Over which places the inside of a measured surface comes down to the plate."""
        wall = np.zeros(self.points.shape[:2], bool)
        for height in np.arange(0.5 * self.voxel, WALL_MM + WALL_VOXELS * self.voxel, self.voxel):
            at, inside = self._at(height, field.shape)
            wall |= inside & known[at] & (field[at] < 0)
        return wall

    def fix_above(self, foot: np.ndarray, field: np.ndarray, fixed: np.ndarray) -> None:
        """Let the surface of the field lie in the plate over the places of a foot."""
        for layer in LAYERS:
            at, inside = self._at(layer * self.voxel, field.shape)
            i, j, k = (a[foot & inside] for a in at)
            heights = (np.stack([i, j, k], axis=1) * self.voxel + self.corner - self.points[foot & inside]) @ self.axes[
                :, 2
            ]
            free = ~fixed[i, j, k]
            field[i[free], j[free], k[free]] = -np.maximum(heights[free], 0.25 * self.voxel) / self.truncation
            fixed[i, j, k] = True

    def _at(self, height_mm: float, shape: tuple[int, ...]) -> tuple[tuple[np.ndarray, ...], np.ndarray]:
        """The voxels nearest to the places so far above the plate, cut off at the field's border, and which are inside it."""
        index = np.round((self.points + height_mm * self.axes[:, 2] - self.corner) / self.voxel).astype(np.int64)
        inside = ((index >= 0) & (index < shape)).all(axis=2)
        i, j, k = np.moveaxis(np.clip(index, 0, np.array(shape) - 1), 2, 0)
        return (i, j, k), inside
