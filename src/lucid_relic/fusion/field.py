"""The field that frames are integrated into, block by block, and a frame made ready for it."""

from dataclasses import dataclass

import numpy as np

from lucid_relic.fusion import _kernels
from lucid_relic.geometry.depth_map import DepthMap
from lucid_relic.geometry.rigid import inverse
from lucid_relic.progress import Progress, silent
from lucid_relic.types import Camera

BLOCKS_AT_ONCE = 20_000  # integrated between two words of progress: under a second on two cores
CLIPPED = 250  # byte from which a photograph counts as over-exposed
CLIPPED_TRUST = 0.25  # of an over-exposed pixel: its depth is measured worse


@dataclass(frozen=True)
class Plan:
    """What every frame of a fusion is integrated with; lengths in mm.

    along_mm is how far behind a surface is told, along the view; shallow_mm how far at the least, across a surface that
    is seen at a slant; behind_mm how far what nothing else tells of counts as inside, so that cells have all corners.
    """

    origin: np.ndarray
    voxel_mm: float
    truncation_mm: float
    behind_mm: float
    along_mm: float
    shallow_mm: float
    best_noise_mm: float
    edge_keeping: bool


@dataclass(frozen=True)
class Shot:
    """One frame made ready: its kept part as `_kernels.packed_surface` lays it out, with the blocks (k,) it touches.

    quality is what its confidence is multiplied by; its pixels have colour when a photograph shares the depth camera's view.
    """

    touched: np.ndarray
    T_camera_object: np.ndarray
    camera: Camera
    quality: float
    coloured: bool
    packed: np.ndarray
    tiles: np.ndarray


def shot_of(
    surface: DepthMap, image: np.ndarray | None, T_object_camera: np.ndarray, touched: np.ndarray, quality: float = 1.0
) -> Shot:
    """A surface with its photograph (h, w, 3) uint8, if there is one, made ready for the blocks it touches."""
    height, width = surface.confidence.shape
    packed = np.empty(3 * (height * width + 1), np.int32)
    tiles = np.empty((-(-height // _kernels.TILE), -(-width // _kernels.TILE)), np.float32)
    _kernels.packed_surface(
        surface.depth, surface.normals, surface.confidence, surface.camera.rays, T_object_camera[:3, :3],
        np.zeros((0, 0, 3), np.uint8) if image is None else image, CLIPPED, CLIPPED_TRUST,
        packed, tiles,
    )  # fmt: skip
    return Shot(touched, inverse(T_object_camera), surface.camera, quality, image is not None, packed, tiles)


def _layout(shots: list[Shot]) -> np.ndarray:
    """(f, 8) int64 where each of some shots lies when they are laid end to end; see `_kernels.integrate`."""
    rows = np.zeros((len(shots), 8), np.int64)
    pixel = tile = 0
    for row, shot in zip(rows, shots, strict=True):
        camera, (high, wide) = shot.camera, shot.tiles.shape
        row[:] = camera.width, camera.height, pixel, tile, high, wide, shot.coloured, not any(camera.distortion)
        pixel, tile = pixel + len(shot.packed) // 3, tile + shot.tiles.size
    return rows


@dataclass
class Field:
    """The arrays of a fusion under way; see `_kernels.integrate`."""

    coords: np.ndarray
    distance: np.ndarray
    weight: np.ndarray
    facing: np.ndarray
    colour: np.ndarray

    @classmethod
    def empty(cls, coords: np.ndarray) -> "Field":
        """Blocks that nothing is known of."""
        size = (len(coords), 512)
        return cls(
            coords, np.ones(size, np.float32), np.zeros(size, np.float32), np.zeros((len(coords), 3 * 512), np.int8),
            np.zeros((len(coords), 4 * 512), np.float32),
        )  # fmt: skip

    def add(self, shots: list[Shot], plan: Plan, progress: Progress = silent) -> None:
        """Integrate some shots, block by block, so that a block is fetched from memory once for all of them."""
        touched = np.concatenate([s.touched for s in shots])
        order = np.argsort(touched, kind="stable")
        blocks, begin = np.unique(touched[order], return_index=True)
        owner = np.repeat(np.arange(len(shots)), [len(s.touched) for s in shots])[order]
        begin = np.append(begin, len(owner))
        views = (
            np.stack([s.T_camera_object for s in shots]), np.stack([s.camera.as_vector for s in shots]),
            np.array([s.quality for s in shots]), _layout(shots), np.concatenate([s.packed for s in shots]),
            np.concatenate([s.tiles.ravel() for s in shots]),
        )  # fmt: skip
        for first in range(0, len(blocks), BLOCKS_AT_ONCE):
            last = min(first + BLOCKS_AT_ONCE, len(blocks))
            progress(0.5 + 0.5 * first / len(blocks), f"Fusing {len(shots)} frames")
            _kernels.integrate(
                blocks[first:last], begin[first : last + 1], owner,
                self.coords, self.distance, self.weight, self.facing, self.colour,
                plan.origin, plan.voxel_mm, plan.truncation_mm, plan.behind_mm, plan.along_mm, plan.shallow_mm,
                plan.along_mm - plan.voxel_mm, *views,
            )  # fmt: skip

    def colour_bytes(self) -> np.ndarray:
        """(b, 512, 3) uint8."""
        out = np.empty((len(self.colour), 512, 3), np.uint8)
        _kernels.mean_colours(self.colour, out)
        return out
