"""Wall thickness: how thick a body is at places of its surface, by the largest ball that touches them from the inside.

The ball is found by shrinking (Ma, Bae & Choi 2012, doi:10.1007/s00371-012-0681-8): it begins with the way straight through to
the other side and gives way to the nearest surface until nothing lies in it. Where it touches two sides that do not face
away from each other it sits in an edge, not in a wall; such places tell only the way straight through.
"""

from dataclasses import dataclass

import numpy as np
from embreex import rtcore_scene
from embreex.mesh_construction import TriangleMesh as EmbreeMesh
from scipy.spatial import cKDTree

from lucid_relic.errors import StepNotPossible
from lucid_relic.geometry.bvh import TriangleTree
from lucid_relic.geometry.topology import edge_table, is_watertight
from lucid_relic.inspection.distance import sample_with_faces
from lucid_relic.progress import Progress, silent
from lucid_relic.types import TriangleMesh

SAMPLES = 40_000
SKIN_SHARE = 1e-5  # of the mesh's size under the surface, where the way through begins
ROUNDS = 24  # of shrinking a ball, at most
TOUCHES = 1e-3  # of its radius that a surface may lie inside of a ball that touches it
WALL_COS = -0.5  # two sides are a wall when a ball touches them over 120° apart


@dataclass(frozen=True)
class Thickness:
    """Walls at places: places (n, 3), normals (n, 3) outward, area_mm2 that each stands for, and two lengths (n,) in mm.

    wall_mm is the diameter of the ball, NaN where it sits in an edge; through_mm is the way straight to the other side.
    """

    places: np.ndarray
    normals: np.ndarray
    area_mm2: float
    wall_mm: np.ndarray
    through_mm: np.ndarray


def wall_thickness(mesh: TriangleMesh, count: int = SAMPLES, seed: int = 0, progress: Progress = silent) -> Thickness:
    """Thickness at `count` places spread evenly by area; raises `StepNotPossible` for what has no inside."""
    _has_inside(mesh)
    places, faces = sample_with_faces(mesh, count, seed)
    normals = mesh.face_normals()[faces]
    normals /= np.linalg.norm(normals, axis=1, keepdims=True)
    through, far = _through(mesh, places, normals)
    progress(0.2, "Measuring walls")
    wall = _balls(TriangleTree(mesh), places, normals, through, far, progress)
    return Thickness(places, normals, mesh.area_mm2() / count, wall, through)


def thickness_at(mesh: TriangleMesh, places: np.ndarray, count: int = SAMPLES) -> np.ndarray:
    """Walls (n,) mm at places (n, 3) of a mesh, each that of the nearest place that was measured; NaN in edges.

    Raises `StepNotPossible` for what has no inside.
    """
    told = wall_thickness(mesh, count)
    _, nearest = cKDTree(told.places).query(places, workers=-1)
    out: np.ndarray = told.wall_mm[nearest]
    return out


def _has_inside(mesh: TriangleMesh) -> None:
    counts = edge_table(mesh.faces)[1] if len(mesh.faces) else np.zeros(0)
    if not len(mesh.faces) or not is_watertight(mesh.faces, counts):
        raise StepNotPossible("Only a closed surface has walls. Close holes first.")
    if mesh.volume_mm3() <= 0:
        raise StepNotPossible("The surface is inside out: its normals point into the body. Repair it first.")


def _through(mesh: TriangleMesh, places: np.ndarray, normals: np.ndarray) -> tuple[np.ndarray, float]:
    """The way (n,) from places straight inwards to the other side, and the size of the mesh, which is more than any."""
    size = float(np.linalg.norm(np.ptp(mesh.vertices, axis=0)))
    scene = rtcore_scene.EmbreeScene()
    EmbreeMesh(scene, np.ascontiguousarray(mesh.corners, dtype=np.float32))
    skin = SKIN_SHARE * size
    start = places - skin * normals
    hit = scene.run(start.astype(np.float32), -normals.astype(np.float32), output=True)
    return np.where(hit["primID"] < 0, size, hit["tfar"] + skin), size


def _balls(
    tree: TriangleTree, places: np.ndarray, normals: np.ndarray, through: np.ndarray, far: float, progress: Progress
) -> np.ndarray:
    """Diameters (n,) of the largest balls that touch places from the inside, NaN where they sit in an edge."""
    radius = np.minimum(through, far) / 2
    cosine = np.full(len(places), -1.0)
    open_ = np.arange(len(places))
    for k in range(ROUNDS):
        progress(0.2 + 0.8 * k / ROUNDS, "Measuring walls")
        centre = places[open_] - radius[open_, None] * normals[open_]
        foot, _, _ = tree.foot(centre)
        off = np.linalg.norm(foot - centre, axis=1)
        # What lies nearer than the radius lies in the ball: the next one touches it as well.
        inside = off < (1 - TOUCHES) * radius[open_]
        open_, foot = open_[inside], foot[inside]
        if not len(open_):
            break
        way = places[open_] - foot
        along = np.maximum(np.einsum("nk,nk->n", way, normals[open_]), 1e-12)
        radius[open_] = np.minimum((way**2).sum(axis=1) / (2 * along), radius[open_])
        centre = places[open_] - radius[open_, None] * normals[open_]
        cosine[open_] = np.einsum("nk,nk->n", normals[open_], foot - centre) / np.maximum(radius[open_], 1e-12)
    return np.where(cosine < WALL_COS, 2 * radius, np.nan)
