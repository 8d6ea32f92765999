"""The made-up patches of a closed mesh: how large they are, which to keep, and fairing them.

Laplace's equation closes a hole with a membrane; where the surroundings are curved a surface that keeps
their curvature is nearer to what was there. A patch is faired by solving the bi-Laplacian over its
vertices with the measured rim held (Botsch & Kobbelt 2004, doi:10.1145/1015706.1015772, with uniform
weights), and laid onto the walls around it where these go on as planes and quadrics (`walls`). Where it would
enter space that frames looked through, sink below a plate or cross the mesh it stays at its membrane, and comes away
from it gradually around such places.
"""

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from scipy.sparse import coo_matrix, csr_matrix, diags, identity
from scipy.sparse.csgraph import connected_components
from scipy.sparse.linalg import splu
from scipy.spatial.distance import pdist

from lucid_relic.fusion.walls import Walls
from lucid_relic.geometry import _kernels
from lucid_relic.geometry.bvh import crossing_near
from lucid_relic.geometry.looks import all_looks, look
from lucid_relic.geometry.topology import side_pairs, split_fans
from lucid_relic.progress import Progress
from lucid_relic.types import ScanState, TriangleMesh

MAX_FAIRED = 100_000  # vertices of a patch: a larger system takes over half a gigabyte; such a patch only follows walls
MIN_FAIRED = 6  # vertices: smaller patches have no inside
RIM_SAMPLE = 600  # places of a rim that tell how wide it is
FREE_VOTES = 2  # frames, as in closing
MOST_BOUNDED = 0.5  # of a patch where nothing may be: then its curvature tells nothing of what is there
RAMP = 10  # sides over which a patch comes away from its membrane around such a place, without a step
BOUNDING_ROUNDS = 4  # in which crossings are taken back; a patch that crosses still keeps its membrane
MOST_MOVED = 0.4  # of the size of the patch
DAMPING = 1e-9  # of the biharmonic system, which is singular along flat strips
SYMMETRIC: dict[str, Any] = {"permc_spec": "MMD_AT_PLUS_A", "options": {"SymmetricMode": True}}  # half the time
CROSSING_REACH = 3.0  # sides of triangles within which a crossing is looked for


@dataclass(frozen=True)
class Patches:
    """label (m,) patch of each face, -1 where measured; size_mm (k,) greatest distance across each rim."""

    label: np.ndarray
    size_mm: np.ndarray


def find_patches(mesh: TriangleMesh) -> Patches:
    """Connected groups of made-up faces, joined through edges."""
    m = len(mesh.faces)
    label = np.full(m, -1)
    made = np.flatnonzero(mesh.made_up)
    if not len(made):
        return Patches(label, np.empty(0))
    touched = np.zeros(len(mesh.vertices), bool)
    touched[mesh.faces[made]] = True
    near = np.flatnonzero(touched[mesh.faces].any(axis=1))
    first, second = side_pairs(mesh.faces[near])
    a, b = near[first // 3], near[second // 3]
    both = mesh.made_up[a] & mesh.made_up[b]
    graph = coo_matrix((np.ones(int(both.sum()), np.int8), (a[both], b[both])), shape=(m, m))
    _, label[made] = np.unique(connected_components(graph, directed=False)[1][made], return_inverse=True)
    rim = mesh.made_up[a] != mesh.made_up[b]
    owner = np.where(mesh.made_up[a[rim]], label[a[rim]], label[b[rim]])
    ends = np.stack([mesh.faces[a, first % 3], mesh.faces[a, (first + 1) % 3]], axis=1)[rim]
    ends, owner = ends[np.argsort(owner, kind="stable")], np.sort(owner)
    count = int(label.max()) + 1
    size = np.zeros(count)
    starts = np.searchsorted(owner, np.arange(count + 1))
    for k in range(count):
        points = mesh.vertices[np.unique(ends[starts[k] : starts[k + 1]])]
        if len(points) > 1:
            size[k] = pdist(points[:: max(len(points) // RIM_SAMPLE, 1)]).max()
    return Patches(label, size)


def without_patches_over(mesh: TriangleMesh, size_mm: float) -> tuple[TriangleMesh, int, int]:
    """The mesh with the patches over a size taken out again; how many patches stay and how many went."""
    patches = find_patches(mesh)
    wide = patches.size_mm > size_mm
    drop = (patches.label >= 0) & wide[np.maximum(patches.label, 0)]
    return split_fans(mesh.select_faces(~drop)), int((~wide).sum()), int(wide.sum())


def fair_patches(state: ScanState, mesh: TriangleMesh, progress: Progress) -> tuple[TriangleMesh, int]:
    """Let the made-up patches follow the curvature around them; returns how many did."""
    patches = find_patches(mesh)
    if not len(patches.size_mm):
        return mesh, 0
    links = _links(mesh)
    measured = np.zeros(len(mesh.vertices), bool)
    measured[mesh.faces[patches.label < 0]] = True
    walls = Walls(mesh, links, measured)
    faired: list[np.ndarray] = []
    proposal = mesh.vertices.astype(np.float64)
    ranked = np.argsort(patches.label, kind="stable")
    starts = np.searchsorted(patches.label[ranked], np.arange(len(patches.size_mm) + 1))
    for k in range(len(patches.size_mm)):
        inner = np.unique(mesh.faces[ranked[starts[k] : starts[k + 1]]])
        inner = inner[~measured[inner]]
        if len(inner) < MIN_FAIRED:
            continue
        progress(0.6 * k / len(patches.size_mm), "Following the curvature")
        moved = _biharmonic(links, proposal, inner) if len(inner) <= MAX_FAIRED else proposal[inner]
        most = MOST_MOVED * patches.size_mm[k]
        gone_on = walls.gone_on(inner, moved, float(patches.size_mm[k]))
        for places in (moved,) if gone_on is None else (gone_on, moved):
            step = np.linalg.norm(places - mesh.vertices[inner], axis=1).max()
            if np.isfinite(step) and step < most:
                proposal[inner] = places
                faired.append(inner)
                break
    bounded = _bounded(state, mesh, proposal, faired, links, progress)
    away: np.ndarray = (bounded != mesh.vertices).any(axis=1)
    return replace(mesh, vertices=bounded), sum(bool(away[inner].any()) for inner in faired)


def _links(mesh: TriangleMesh) -> csr_matrix:
    n = len(mesh.vertices)
    i, j = mesh.faces.ravel(), np.roll(mesh.faces, -1, axis=1).ravel()
    links = coo_matrix((np.ones(len(i), np.float64), (i, j)), shape=(n, n)).tocsr()
    return ((links + links.T) > 0).astype(np.float64)


def _biharmonic(links: csr_matrix, vertices: np.ndarray, inner: np.ndarray) -> np.ndarray:
    """Places (k, 3) of the inner vertices that make the Laplacian of the Laplacian vanish."""
    ring = np.unique(links[inner].indices)
    wide = np.unique(np.concatenate([inner, ring, links[ring].indices]))
    local = links[wide][:, wide]
    laplacian = identity(len(wide)) - diags(1 / np.maximum(np.asarray(local.sum(axis=1)).ravel(), 1)) @ local
    rows = np.searchsorted(wide, np.union1d(inner, ring))
    own = np.searchsorted(wide, inner)
    fixed = np.setdiff1d(np.arange(len(wide)), own)
    rows_of = laplacian.tocsr()[rows]
    A, B = rows_of[:, own], rows_of[:, fixed]
    normal = (A.T @ A + DAMPING * identity(len(own))).tocsc()
    return splu(normal, diag_pivot_thresh=0.0, **SYMMETRIC).solve(-np.asarray(A.T @ (B @ vertices[wide[fixed]])))


def _bounded(
    state: ScanState,
    mesh: TriangleMesh,
    proposal: np.ndarray,
    faired: list[np.ndarray],
    links: csr_matrix,
    progress: Progress,
) -> np.ndarray:
    """Vertices (n, 3) float32 of the proposal for the faired patches, at their membrane where it would go too far."""
    if not faired:
        return mesh.vertices
    membrane, inner = mesh.vertices.astype(np.float64), np.concatenate(faired)
    too_far = np.zeros(len(membrane), bool)
    too_far[inner] = _seen_free(state, proposal[inner], progress) | _below_plate(state, proposal[inner])
    step = np.zeros_like(membrane)
    for patch in faired:
        if too_far[patch].mean() <= MOST_BOUNDED:
            step[patch] = proposal[patch] - membrane[patch]
    moving: np.ndarray = (step != 0).any(axis=1)
    faces = np.flatnonzero(moving[mesh.faces].any(axis=1))
    for _ in range(BOUNDING_ROUNDS):
        trial = (membrane + _away_from(too_far, links)[:, None] * step).astype(np.float32)
        crossing = mesh.faces[crossing_near(replace(mesh, vertices=trial), faces, CROSSING_REACH)]
        if not len(crossing):
            return trial
        too_far[crossing] = True
    for patch in faired:
        if np.isin(patch, crossing).any():
            trial[patch] = mesh.vertices[patch]
    return trial


def _away_from(marked: np.ndarray, links: csr_matrix) -> np.ndarray:
    """(n,) 0 at marked vertices, growing smoothly with the steps from them along sides, 1 from `RAMP` steps on."""
    steps = np.full(len(marked), RAMP)
    reached = marked.copy()
    for n in range(RAMP):
        steps[reached & (steps == RAMP)] = n
        reached |= links @ reached.astype(np.float64) > 0
    share = steps / RAMP
    return share * share * (3 - 2 * share)


def _seen_free(state: ScanState, points: np.ndarray, progress: Progress) -> np.ndarray:
    agree, against = np.zeros(len(points), np.int64), np.zeros(len(points), np.int64)
    seen = all_looks(state.used_passes())
    margin = state.volume.truncation_mm if state.volume is not None else 1.0
    for done, (scan, number) in enumerate(seen):
        progress(0.6 + 0.4 * done / len(seen), "Asking the frames what they looked through")
        one = look(scan, number)
        for _ in range(one.votes):
            _kernels.see_through(
                points, one.T_camera_object(scan), one.camera.as_vector, one.depth, margin, agree, against
            )
    return against >= FREE_VOTES


def _below_plate(state: ScanState, points: np.ndarray) -> np.ndarray:
    below = np.zeros(len(points), bool)
    for scan in state.used_passes():
        if scan.plate is not None:
            in_pass = (points - scan.T_object_pass[:3, 3]) @ scan.T_object_pass[:3, :3]
            below |= in_pass @ scan.plate[:3] < scan.plate[3] - 0.5 * (state.volume.voxel_mm if state.volume else 0.5)
    return below
