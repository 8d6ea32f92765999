"""Coverage: how often, how squarely and from how many sides the places of a surface were seen, and what is enough."""

from dataclasses import dataclass

import numpy as np

from lucid_relic.errors import ParameterError, quoted
from lucid_relic.geometry.rigid import inverse, transform_points
from lucid_relic.types import PassState

SIDES = 16  # sectors of the sky above a place that are told apart
SECTOR_SQUARE = 0.92  # a look squarer than 23° is in the middle one of them
LEAST_COMMON = 1 / 3  # of what a pass or a pose sees must be captured already to hold it (common practice, no source)
WITHIN_SPACINGS, WITHIN_NOISES = 2.5, 4.0  # that a frame's depth may be off a place and still mean it


@dataclass(frozen=True)
class Enough:
    """times a place must be seen, once at least within slant_deg of square, from so many sides."""

    times: int
    slant_deg: float
    sides: int


ENOUGH = {"print": Enough(2, 68.0, 1), "screen": Enough(3, 62.0, 2), "cad": Enough(4, 55.0, 2)}


@dataclass(frozen=True)
class Coverage:
    """Per place: times (n,) int32 it was seen, cos (n,) float32 of its squarest look, sides (n,) uint16 bits of sectors."""

    times: np.ndarray
    cos: np.ndarray
    sides: np.ndarray

    def joined(self, other: "Coverage") -> "Coverage":
        """Both together."""
        return Coverage(self.times + other.times, np.maximum(self.cos, other.cos), self.sides | other.sides)

    def enough(self, need: Enough) -> np.ndarray:
        """(n,) bool of places that were seen well enough."""
        square = self.cos >= np.cos(np.radians(need.slant_deg))
        return (self.times >= need.times) & square & (np.bitwise_count(self.sides) >= need.sides)

    def level(self, need: Enough) -> np.ndarray:
        """(n,) float32 0-1, from never to enough, for the view."""
        how_often = np.minimum(self.times / need.times, 1.0)
        square = np.minimum(self.cos / np.cos(np.radians(need.slant_deg)), 1.0)
        sides = np.minimum(np.bitwise_count(self.sides) / need.sides, 1.0)
        return np.where(self.times > 0, (how_often * square * sides).astype(np.float32), np.float32(0))


def enough_for(use: str) -> Enough:
    """What is enough for a use; raises `ParameterError` when there is no such use."""
    if use not in ENOUGH:
        raise ParameterError(f"There is no use {quoted(use)}; there are {', '.join(ENOUGH)}.")
    return ENOUGH[use]


def never(count: int) -> Coverage:
    """The coverage of places that nothing has seen."""
    return Coverage(np.zeros(count, np.int32), np.zeros(count, np.float32), np.zeros(count, np.uint16))


def covered(places: np.ndarray, normals: np.ndarray, seen: np.ndarray, eyes: np.ndarray) -> Coverage:
    """Coverage of places (n, 3) by looks: seen (k, n) bool from eyes (k, 3)."""
    out = never(len(places))
    for mask, eye in zip(seen, eyes, strict=True):
        out = out.joined(_one_look(places, normals, mask, eye))
    return out


def coverage_of_pass(places: np.ndarray, normals: np.ndarray, scan: PassState, spacing_mm: float) -> Coverage:
    """What the frames that are in of a placed pass measured of places (n, 3) with normals in the object's frame."""
    out = never(len(places))
    within = WITHIN_SPACINGS * spacing_mm + WITHIN_NOISES * scan.noise_mm
    for index in map(int, scan.frames_used()):
        T = scan.T_object_camera(index)
        seen = transform_points(inverse(T), places)
        uv = np.rint(scan.camera.project(np.where(seen[:, 2:] > 0, seen, [0.0, 0.0, 1.0]))).astype(int)
        inside = (seen[:, 2] > 0) & (uv >= 0).all(axis=1) & (uv < [scan.camera.width, scan.camera.height]).all(axis=1)
        depth = scan.source.depth(index)
        mask = np.zeros(len(places), bool)
        at = np.flatnonzero(inside)
        mask[at] = np.abs(depth[uv[at, 1], uv[at, 0]] - seen[at, 2]) < within
        out = out.joined(_one_look(places, normals, mask, T[:3, 3]))
    return out


def _one_look(places: np.ndarray, normals: np.ndarray, mask: np.ndarray, eye: np.ndarray) -> Coverage:
    way = eye - places
    way /= np.maximum(np.linalg.norm(way, axis=1, keepdims=True), 1e-9)
    cos = np.einsum("ij,ij->i", way, normals)
    mask = mask & (cos > 0)
    bit = np.where(mask, np.uint16(1) << _sector(way, normals, cos), 0).astype(np.uint16)
    return Coverage(mask.astype(np.int32), np.where(mask, cos, 0).astype(np.float32), bit)


def _sector(way: np.ndarray, normals: np.ndarray, cos: np.ndarray) -> np.ndarray:
    """(n,) uint16: which part of the sky above each place a look comes from; 0 is its middle."""
    helper = np.eye(3)[np.argmin(np.abs(normals), axis=1)]
    side = np.cross(normals, helper)
    side /= np.maximum(np.linalg.norm(side, axis=1, keepdims=True), 1e-9)
    around = np.arctan2(np.einsum("ij,ij->i", way, np.cross(normals, side)), np.einsum("ij,ij->i", way, side))
    ring = 1 + ((around / (2 * np.pi) % 1) * (SIDES - 1)).astype(np.int64)
    return np.where(cos > SECTOR_SQUARE, 0, np.minimum(ring, SIDES - 1)).astype(np.uint16)
