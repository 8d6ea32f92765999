"""Colour that came with points and meshes: asked at any place of the surface, where no photograph shows it.

A mesh with a texture gives the texel at the nearest place on it; points give the mean of those nearest, by distance, in linear light.
"""

from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree

from lucid_relic.geometry.bvh import TriangleTree
from lucid_relic.geometry.pass_points import came_points
from lucid_relic.light.srgb import to_linear
from lucid_relic.progress import Progress, silent
from lucid_relic.types import PassState, PointCloud, ScanState, TriangleMesh

NEAREST = 4  # points that are mixed
REACH_SPACINGS = 3.0  # of a pass's points: its colour does not reach farther
FACING = 0.2  # cosine: what faces farther away is another side of a thin wall
AT_ONCE = 200_000  # places asked at once: 30 MB


@dataclass(frozen=True)
class _Source:
    """The colour of one pass, in the object's frame: points in a tree, or a textured mesh in one."""

    cloud: PointCloud
    spacing_mm: float
    reach_mm: float
    worth: float
    points: cKDTree | None = None
    linear: np.ndarray | None = None
    mesh: TriangleMesh | None = None
    faces: TriangleTree | None = None

    def at(self, places: np.ndarray, normals: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Linear colour (n, 3) and worth (n,), 0 where this pass has no colour near."""
        return self._of_texture(places, normals) if self.mesh is not None else self._of_points(places, normals)

    def _of_points(self, places: np.ndarray, normals: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        away, index = self.points.query(places, k=NEAREST, distance_upper_bound=self.reach_mm, workers=-1)
        near = np.isfinite(away)
        index = np.where(near, index, 0)
        near &= np.einsum("nkj,nj->nk", self.cloud.normals[index], normals.astype(np.float32)) > FACING
        share = np.where(near, 1.0 / (np.where(near, away, 1.0) + 0.1 * self.reach_mm) ** 2, 0.0).astype(np.float32)
        total = share.sum(axis=1)
        mixed = np.einsum("nk,nkj->nj", share, self.linear[index])
        return mixed / np.maximum(total, 1e-12)[:, None], np.where(total > 0, self.worth, 0.0)

    def _of_texture(self, places: np.ndarray, normals: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        foot, face, share = self.faces.foot(places)
        near = np.linalg.norm(foot - places, axis=1) < self.reach_mm
        facing = self.mesh.face_normals()[face]
        near &= np.einsum("nj,nj->n", facing, normals) > FACING * np.linalg.norm(facing, axis=1)
        uv = np.einsum("nk,nkj->nj", share, self.mesh.texture.uv[face])
        return to_linear(self.mesh.texture.at(uv)).astype(np.float64), np.where(near, self.worth, 0.0)


class PointColours:
    """The colours of all placed passes of points; `some` says whether there are any."""

    def __init__(self, state: ScanState) -> None:
        self._sources = [_source(p) for p in state.used_passes() if has_own_colour(p)]
        self.some = bool(self._sources)

    def finer_than(self, mesh: TriangleMesh) -> bool:
        """Whether they show more than the vertices of a mesh can: a texture, or points closer than its sides are long."""
        if any(s.mesh is not None for s in self._sources):
            return True
        side = mesh.usual_side()
        return any(s.spacing_mm < side for s in self._sources)

    def at(self, places: np.ndarray, normals: np.ndarray, progress: Progress = silent) -> tuple[np.ndarray, np.ndarray]:
        """Linear colour (n, 3) float32 of places (n, 3) that face `normals` (n, 3), and which (n,) have one."""
        out, known = np.zeros((len(places), 3), np.float32), np.zeros(len(places), bool)
        for first in range(0, len(places) if self.some else 0, AT_ONCE):
            progress(first / len(places), "Taking the colour of the points")
            part = slice(first, first + AT_ONCE)
            told = [s.at(places[part], normals[part]) for s in self._sources]
            total = np.sum([worth for _, worth in told], axis=0)
            mixed = np.sum([colour * worth[:, None] for colour, worth in told], axis=0)
            known[part] = total > 0
            out[part] = mixed / np.maximum(total, 1e-12)[:, None]
        return out, known


def has_own_colour(scan: PassState) -> bool:
    """Whether a pass came as points or a mesh with colours."""
    if scan.cloud is None:
        return False
    surface = scan.cloud.surface
    return scan.cloud.cloud.colours is not None or (surface is not None and surface.texture is not None)


def _source(scan: PassState) -> _Source:
    came = scan.cloud
    cloud = came_points(scan, cleaned=True, coloured=True).transformed(scan.T_object_pass)
    reach = REACH_SPACINGS * came.spacing_mm + 3.0 * scan.noise_mm
    worth = 1.0 / (came.spacing_mm**2 + scan.noise_mm**2)
    if came.surface is not None and came.surface.texture is not None:
        mesh = came.surface.transformed(scan.T_object_pass)
        return _Source(cloud, came.spacing_mm, reach, worth, mesh=mesh, faces=TriangleTree(mesh))
    return _Source(cloud, came.spacing_mm, reach, worth, points=cKDTree(cloud.points), linear=to_linear(cloud.colours))
