"""Local detail: part of a fused surface brought onto a finer fusion of the same frames, joined to the rest without a crack.

The marked triangles are split, and their corners moved along the surface's normal onto the finer field's surface. Since the
splitting is one of a mesh, nothing has to be sewn together; towards the rim of the part the move fades out.
"""

from dataclasses import replace

import numpy as np
from embreex import rtcore_scene
from embreex.mesh_construction import TriangleMesh as EmbreeMesh
from scipy.sparse import coo_matrix, csr_matrix
from scipy.spatial import cKDTree

from lucid_relic.geometry.subdivide import subdivided
from lucid_relic.geometry.topology import edge_table
from lucid_relic.progress import Progress, silent
from lucid_relic.types import TriangleMesh

REACH_VOXELS = 2.0  # coarse voxels that a place may move: farther off lies another part of the object
FADE_VOXELS = 1.5  # coarse voxels from the rim of the part within which the move fades in
LIKE = 0.3  # cosine from which on the finer surface faces as the coarse one does
NORMAL_ROUNDS = 6  # of evening out the directions along which corners move, so that they do not cross
FILL_ROUNDS = 30  # of carrying moves over to corners that found nothing


def with_local_detail(
    mesh: TriangleMesh,
    chosen: np.ndarray,
    fine: TriangleMesh,
    coarse_voxel_mm: float,
    halvings: int,
    progress: Progress = silent,
) -> tuple[TriangleMesh, np.ndarray]:
    """The mesh with the triangles in chosen (m,) bool split so many times and laid onto a finer surface.

    Returned as well are the triangles (k,) bool of the new mesh that were split; a texture is taken off.
    """
    part = chosen
    for k in range(halvings):
        progress(0.4 * k / halvings, "Splitting triangles")
        mesh, born = subdivided(mesh, part)
        part = part[born]
    progress(0.4, "Laying them onto the finer surface")
    inner = np.zeros(len(mesh.vertices), bool)
    inner[mesh.faces[part]] = True
    rim = np.zeros(len(mesh.vertices), bool)
    rim[mesh.faces[~part]] = True
    edges, counts, _ = edge_table(mesh.faces)
    rim[edges[counts == 1]] = True
    moving = np.flatnonzero(inner & ~rim)
    if not len(moving) or not len(fine.faces):
        return mesh, part
    places = mesh.vertices.astype(np.float64)
    links = _links(edges, len(places))
    normals = _evened(mesh.vertex_normals().astype(np.float64), links)
    reach = REACH_VOXELS * coarse_voxel_mm
    move = _moves(places[moving], normals[moving], fine, reach)
    whole = np.full(len(places), np.nan)
    whole[moving] = move
    whole[~inner | rim] = 0.0
    whole = _filled(whole, links)
    fade = _fade(places[moving], places[inner & rim], FADE_VOXELS * coarse_voxel_mm)
    places[moving] += normals[moving] * (whole[moving] * fade)[:, None]
    progress(1.0, "Laid onto the finer surface")
    return replace(mesh, vertices=places.astype(np.float32)), part


def _links(edges: np.ndarray, count: int) -> csr_matrix:
    """(n, n) mean over the neighbours of each vertex."""
    ones = np.ones(len(edges))
    links = coo_matrix((ones, (edges[:, 0], edges[:, 1])), shape=(count, count)).tocsr()
    links = links + links.T
    scale = 1 / np.maximum(np.asarray(links.sum(axis=1)).ravel(), 1.0)
    return csr_matrix(links.multiply(scale[:, None]))


def _evened(normals: np.ndarray, links: csr_matrix) -> np.ndarray:
    for _ in range(NORMAL_ROUNDS):
        normals = normals + links @ normals
        normals /= np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-12)
    return normals


def _moves(places: np.ndarray, normals: np.ndarray, fine: TriangleMesh, reach: float) -> np.ndarray:
    """(n,) mm along its normal from each place to the finer surface, NaN where that is not within reach or faces away."""
    scene = rtcore_scene.EmbreeScene()
    EmbreeMesh(scene, np.ascontiguousarray(fine.corners, dtype=np.float32))
    facing = fine.face_normals()
    facing /= np.maximum(np.linalg.norm(facing, axis=1, keepdims=True), 1e-12)
    # From without inwards: the first skin that faces the same way is the one that is seen.
    start = places + reach * normals
    hit = scene.run(start.astype(np.float32), -normals.astype(np.float32), output=True)
    found = hit["primID"] >= 0
    move = reach - hit["tfar"].astype(np.float64)
    alike = np.zeros(len(places), bool)
    alike[found] = np.einsum("ij,ij->i", facing[hit["primID"][found]], normals[found]) > LIKE
    return np.where(alike & (np.abs(move) <= reach), move, np.nan)


def _filled(move: np.ndarray, links: csr_matrix) -> np.ndarray:
    """Moves where none was found, carried over from around."""
    known = np.isfinite(move)
    out = np.where(known, move, 0.0)
    if known.all():
        return out
    for _ in range(FILL_ROUNDS):
        out = np.where(known, out, links @ out)
    return out


def _fade(places: np.ndarray, rim: np.ndarray, over_mm: float) -> np.ndarray:
    """(n,) share of the move: none at the rim of the part, all of it some way off."""
    if not len(rim):
        return np.ones(len(places))
    share = np.clip(cKDTree(rim).query(places, workers=-1)[0] / over_mm, 0.0, 1.0)
    out: np.ndarray = share * share * (3 - 2 * share)
    return out
