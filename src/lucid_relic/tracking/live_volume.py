"""The model that grows while a head is moved: a sparse distance field that frames are fused into and seen from."""

from dataclasses import dataclass

import numpy as np

from lucid_relic.alignment.views import FrameView
from lucid_relic.fusion import _kernels as fusing
from lucid_relic.fusion.field import Field, Plan, shot_of
from lucid_relic.geometry.points import voxel_keys
from lucid_relic.tracking import _kernels
from lucid_relic.tracking.quick_view import LOG_LIGHT, NOTHING, SAMPLES, QuickFrame, with_steps
from lucid_relic.types import Camera, TriangleMesh

TRUNCATION_VOXELS, BEHIND_VOXELS = 4.0, 3.0  # as in fusion
NOISE_WIDTHS = 3.0  # that the band must hold on either side
FIRST_BLOCKS = 1024
MARGIN_BLOCKS = 12  # kept free around the blocks when the grid grows
TABLE = 1 << 15
MOST_CORNERS = 200_000  # of a net
PLAIN_VOXELS = 4  # wide are the cells in which its vertices are joined where it is too much
MOST_BLOCKS = 120_000  # about 1.6 GB; beyond it nothing new is taken in


@dataclass(frozen=True)
class ModelView:
    """What a camera sees of the model from a pose (4, 4) camera → pass."""

    pose: np.ndarray
    view: FrameView


class LiveVolume:
    """Blocks of 8³ voxels in the pass's frame; the grid that finds them grows as they come."""

    def __init__(self, voxel_mm: float, noise_mm: float) -> None:
        truncation = max(TRUNCATION_VOXELS * voxel_mm, NOISE_WIDTHS * noise_mm)
        behind = max(BEHIND_VOXELS * voxel_mm, NOISE_WIDTHS * noise_mm)
        # What grows is looked at, and followed, from everywhere: a gap in it is worse than a fin.
        self.plan = Plan(np.zeros(3), voxel_mm, truncation, behind, behind, behind, noise_mm, False)
        self._field = Field.empty(np.zeros((FIRST_BLOCKS, 3), np.int32))
        self._low = np.zeros(3, np.int64)
        self._grid = np.full((1, 1, 1), -1, np.int32)
        self.blocks = 0

    def anew(self) -> "LiveVolume":
        """An empty one of the same kind."""
        return LiveVolume(self.plan.voxel_mm, self.plan.best_noise_mm)

    @property
    def full(self) -> bool:
        """Whether nothing new is taken in any more."""
        return self.blocks >= MOST_BLOCKS

    def add(self, frame: QuickFrame, pose: np.ndarray) -> None:
        """Fuse a frame at a pose camera → pass."""
        touched = self._touched(frame, pose)
        if len(touched):
            self._field.add([shot_of(frame.surface, frame.image, pose, touched)], self.plan)

    def _touched(self, frame: QuickFrame, pose: np.ndarray) -> np.ndarray:
        """(k,) int32 numbers of the blocks within reach of a frame; new ones are made."""
        plan, camera = self.plan, frame.surface.camera
        stride = int(np.clip(4 * plan.voxel_mm / max(frame.view.spacing_mm, 1e-9), 1, 3))
        table = np.zeros(TABLE, np.int64)
        keep = frame.surface.confidence > 0
        place = (keep, camera.rays, stride, pose, plan.origin, 8 * plan.voxel_mm, plan.truncation_mm)
        while fusing.touched_blocks(frame.surface.depth, *place, table, 0) < 0:
            table = np.zeros(4 * len(table), np.int64)
        keys = np.sort(table[table != 0])
        slots = np.empty(len(keys), np.int64)
        if not _kernels.slots_of(keys, self._grid, self._low, fusing.HALF_SPAN, slots):
            self._widen(_coords(keys))
            _kernels.slots_of(keys, self._grid, self._low, fusing.HALF_SPAN, slots)
        new = np.flatnonzero(slots < 0)
        if len(new) and not self.full:
            slots[new] = self._make(_coords(keys[new]))
        return np.sort(slots[slots >= 0]).astype(np.int32)

    def _widen(self, coords: np.ndarray) -> None:
        """Make the grid hold some blocks' coordinates too."""
        low, high = coords.min(axis=0) - MARGIN_BLOCKS, coords.max(axis=0) + MARGIN_BLOCKS + 1
        if self.blocks:
            low, high = np.minimum(low, self._low), np.maximum(high, self._low + self._grid.shape)
        grid = np.full(high - low, -1, np.int32)
        if self.blocks:
            a = self._low - low
            b = a + self._grid.shape
            grid[a[0] : b[0], a[1] : b[1], a[2] : b[2]] = self._grid
        self._grid, self._low = grid, low

    def _make(self, coords: np.ndarray) -> np.ndarray:
        first, last = self.blocks, self.blocks + len(coords)
        field = self._field
        if last > len(field.coords):
            more = Field.empty(np.zeros((max(len(field.coords), len(coords)), 3), np.int32))
            self._field = field = Field(
                *(np.concatenate([getattr(field, k), getattr(more, k)]) for k in ("coords", "distance", "weight", "facing", "colour"))
            )  # fmt: skip
        field.coords[first:last] = coords
        self._grid[tuple((coords - self._low).T)] = np.arange(first, last)
        self.blocks = last
        return np.arange(first, last)

    def seen_from(self, pose: np.ndarray, camera: Camera, near_mm: float, far_mm: float, seed: int) -> ModelView:
        """The model's thinned map and a sample of it from a pose, between two depths."""
        rays = camera.half_rays
        fitted, confidence = np.zeros(rays.shape[:2], np.float32), np.zeros(rays.shape[:2], np.float32)
        normals = np.zeros((*rays.shape[:2], 3), np.float32)
        grey = np.full(rays.shape[:2], NOTHING[0, 0, 0], np.float32)
        field, plan = self._field, self.plan
        spans = np.empty((*(-(-n // _kernels.TILE) for n in rays.shape[:2]), 2))
        _kernels.tile_spans(pose, rays, field.coords, self.blocks, plan.voxel_mm, near_mm, far_mm, spans)
        _kernels.look_at_model(
            pose, rays, spans, self._grid, self._low, field.distance, field.weight, field.colour, plan.voxel_mm,
            plan.truncation_mm / plan.voxel_mm, LOG_LIGHT, fitted, normals, confidence, grey,
        )  # fmt: skip
        v, u = np.nonzero(fitted)
        rng = np.random.default_rng([seed, 6])
        chosen = np.sort(rng.choice(len(v), min(SAMPLES, len(v)), replace=False))
        v, u = v[chosen], u[chosen]
        z = fitted[v, u]
        light = with_steps(grey)
        view = FrameView(
            cam=camera.as_vector, rays=rays, fitted=fitted, normals=normals, confidence=confidence,
            points=np.stack([rays[v, u, 0] * z, rays[v, u, 1] * z, z], axis=1), point_normals=normals[v, u],
            weights=confidence[v, u], light=light, point_light=light[v, u, 0], noise_mm=plan.best_noise_mm,
            spacing_mm=float(np.median(z)) / camera.fx if len(z) else 0.0,
        )  # fmt: skip
        return ModelView(pose, view)

    def net(self, step: int = 2) -> TriangleMesh:
        """A quick net over the surface so far, for the view, of cells so many voxels wide (1, 2, 4 or 8)."""
        field, n = self._field, self.blocks
        cells = np.full((n, (8 // step) ** 3), -1, np.int32)
        places = np.empty((MOST_CORNERS, 3), np.float32)
        where = (field.coords, n, self._grid, self._low, field.distance, field.weight, step, cells)
        places = places[: _kernels.net_corners(*where, places)]
        faces = np.empty((3 * len(places), 3), np.int32)
        faces = faces[: _kernels.net_faces(*where, faces)]
        colours = np.empty((len(places), 3), np.uint8)
        _kernels.net_colours(places, self._grid, self._low, field.colour, colours)
        return TriangleMesh(places * np.float32(self.plan.voxel_mm), faces, colours)

    def plain_net(self) -> TriangleMesh:
        """The net where it is too much: about a quarter of its triangles, its vertices joined in cells twice as wide.

        Rossignac and Borrel, "Multi-resolution 3D approximations" (1993). A net of wider cells would have holes: the field
        is known only near the surface, and the edges of a wide cell end beyond that.
        """
        net = self.net()
        keys = voxel_keys(net.vertices, PLAIN_VOXELS * self.plan.voxel_mm)
        _, cell, held = np.unique(keys, return_inverse=True, return_counts=True)
        places, colours = (
            np.stack([np.bincount(cell, v) for v in values.T], axis=1) / held[:, None]
            for values in (net.vertices, net.colours)
        )
        faces = cell[net.faces].astype(np.int32)
        apart = (faces != np.roll(faces, 1, axis=1)).all(axis=1)
        return TriangleMesh(places.astype(np.float32), faces[apart], np.round(colours).astype(np.uint8))


def _coords(keys: np.ndarray) -> np.ndarray:
    """(k, 3) int64 coordinates of block keys."""
    return np.stack([keys >> 42, keys >> 21 & 0x1FFFFF, keys & 0x1FFFFF], axis=1) - fusing.HALF_SPAN
