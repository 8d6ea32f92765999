"""Reducing the triangle count by quadric edge collapse, keeping the mesh a manifold.

Garland & Heckbert (1997), doi:10.1145/258734.258849, with border planes, the link condition of Dey et
al. (1999) and a check that no triangle turns over; triangles that cross afterwards are relaxed apart.
Limits: pieces are never joined, and a mesh that is not a manifold stays what it is.
"""

from dataclasses import dataclass, replace

import numpy as np
from scipy.spatial import cKDTree

from lucid_relic.errors import StepNotPossible
from lucid_relic.geometry.bvh import TriangleTree
from lucid_relic.geometry.topology import edge_table
from lucid_relic.mending import _kernels
from lucid_relic.mending.seams import carried_texture, seam_vertices
from lucid_relic.mending.untangle import untangled
from lucid_relic.progress import Progress, part_of, silent, watched
from lucid_relic.threads import side_by_side
from lucid_relic.types import TriangleMesh

FIRST_SHARE = 0.5  # the mean squared error allowed at first, as a share of the tolerance
TRIES = 10  # to meet a tolerance: each is five times as careful around bad places
SPARING_TRIES = 4  # around places that cross
MOST_SPARED = (
    0.1  # vertices left as they were, of the target: with more the rest would have to give up its shape for them
)
TIGHTEN = 0.2  # of the squared error allowed around a bad place
SPREAD = 3.0  # in mean sides of the reduced mesh: how far around a bad place to be more careful
SWEEP_TO = 1.6  # sweeps stop at this multiple of the target; the ordered heap does the rest
SWEEP_START = 0.2  # quantile of the costs that the first sweep takes
SWEEP_GROWTH = 2.0  # of that threshold from sweep to sweep
SWEEP_SAMPLE = 20_000  # edges that tell it
SWEEPS = 40  # at the most: by then the threshold is 2⁴⁰ times the first


@dataclass(frozen=True)
class Simplified:
    """The reduced mesh and, for every face, the face of the original it was born from (m,).

    hausdorff_mm is the greatest distance between the two surfaces, both ways, or None when not asked.
    """

    mesh: TriangleMesh
    birth: np.ndarray
    hausdorff_mm: float | None = None


def simplify(
    mesh: TriangleMesh,
    target: int,
    tolerance_mm: float | None = None,
    keep_texture: bool = False,
    progress: Progress = silent,
) -> Simplified:
    """Reduce to `target` triangles, or as far as no point comes to lie farther off than `tolerance_mm`.

    With a tolerance the greatest distance is measured both ways (at all vertices and at samples) and
    the reduction is repeated more carefully until it holds. Colours are taken from the nearest
    original vertex; made-up flags from birth; a texture is kept with its seams in place, or taken off.
    """
    if target < 4:
        raise StepNotPossible("A mesh cannot be reduced to fewer than 4 triangles.")
    if len(mesh.faces) <= target and tolerance_mm is None:
        kept = mesh if keep_texture else mesh.without_texture()
        return Simplified(kept, np.arange(len(mesh.faces)), 0.0)
    allowed = np.full(len(mesh.vertices), np.inf)
    if tolerance_mm is None:
        return _reduced(mesh, target, allowed, keep_texture, progress)[0]
    return _within(mesh, target, tolerance_mm, keep_texture, progress)


def _within(mesh: TriangleMesh, target: int, tolerance_mm: float, keep_texture: bool, progress: Progress) -> Simplified:
    """Reduce, measure, and reduce again more carefully around the places that came to lie too far off."""
    original, old = TriangleTree(mesh), cKDTree(mesh.vertices)
    allowed = np.full(len(mesh.vertices), (FIRST_SHARE * tolerance_mm) ** 2)
    for k in range(TRIES):
        # Every further round is less likely: each gets half of what is left.
        part = part_of(progress, 1 - 0.5**k, 1 - 0.5 ** (k + 1))
        out, allowed = _reduced(mesh, target, allowed, keep_texture, part)
        reduced_probes, own_probes = _probes(out.mesh), _probes(mesh)
        to_original = original.closest(reduced_probes)[0]
        to_reduced = TriangleTree(out.mesh).closest(own_probes)[0]
        worst = float(max(to_original.max(), to_reduced.max()))
        if worst <= tolerance_mm:
            return replace(out, hausdorff_mm=worst)
        bad = np.concatenate([reduced_probes[to_original > tolerance_mm], own_probes[to_reduced > tolerance_mm]])
        around = SPREAD * float(np.sqrt(out.mesh.area_mm2() / len(out.mesh.faces))) + tolerance_mm
        near = old.query_ball_point(bad, around, workers=-1)
        allowed[np.unique(np.concatenate(near).astype(np.int64))] *= TIGHTEN
    return Simplified(mesh if keep_texture else mesh.without_texture(), np.arange(len(mesh.faces)), 0.0)


def hausdorff(mesh: TriangleMesh, other: TriangleMesh) -> float:
    """Greatest distance (mm) of all vertices and face centres of either surface to the other."""
    tree, other_tree = side_by_side(TriangleTree, (mesh, other))
    return max(tree.farthest(_probes(other)), other_tree.farthest(_probes(mesh)))


def _probes(mesh: TriangleMesh) -> np.ndarray:
    used = np.zeros(len(mesh.vertices), np.bool_)
    used[mesh.faces] = True
    return np.concatenate([mesh.vertices[used], mesh.face_centres()]).astype(np.float64)


def _reduced(
    mesh: TriangleMesh, target: int, allowed_sq: np.ndarray, keep_texture: bool, progress: Progress
) -> tuple[Simplified, np.ndarray]:
    """Reduce; where triangles cross that cannot be relaxed apart, reduce again with that place left as it was."""
    out, crossing = _reduced_once(mesh, target, allowed_sq.copy(), keep_texture, part_of(progress, 0, 0.8))
    for _ in range(SPARING_TRIES):
        if not len(crossing):
            break
        corners = out.mesh.corners[crossing]
        reach = float(np.linalg.norm(corners - np.roll(corners, 1, axis=1), axis=2).max())
        near = cKDTree(mesh.vertices).query_ball_point(corners.mean(axis=1), 1.5 * reach)
        allowed_sq = allowed_sq.copy()
        allowed_sq[np.unique(np.concatenate(near).astype(np.int64))] = 0.0
        if int((allowed_sq == 0).sum()) > MOST_SPARED * target:
            break
        out, crossing = _reduced_once(mesh, target, allowed_sq.copy(), keep_texture, part_of(progress, 0.8, 1.0))
    return out, allowed_sq


def _reduced_once(
    mesh: TriangleMesh, target: int, allowed_sq: np.ndarray, keep_texture: bool, progress: Progress
) -> tuple[Simplified, np.ndarray]:
    said = f"Simplifying {len(mesh.faces):,} triangles"
    progress(0.0, said)
    vertices = mesh.vertices.astype(np.float64)
    centre = vertices.mean(axis=0)
    vertices -= centre
    faces = mesh.faces.astype(np.int64)
    edges, uses, side_edge = edge_table(faces)
    side_on_border = uses[side_edge] == 1
    quadrics = np.zeros((len(vertices), 10))
    area = np.zeros(len(vertices))
    _kernels.vertex_quadrics(vertices, faces, quadrics, area)
    _kernels.border_quadrics(vertices, faces, side_on_border, quadrics)
    on_border = np.zeros(len(vertices), np.bool_)
    on_border[np.unique(faces[side_on_border])] = True
    on_border[np.unique(np.roll(faces, -1, axis=1)[side_on_border])] = True
    locked = np.zeros(len(vertices), np.bool_)
    if keep_texture and mesh.texture is not None:
        locked[seam_vertices(mesh)] = True
    alive = np.ones(len(faces), np.bool_)
    work = (vertices, faces, quadrics, area, on_border, locked, alive, *_kernels.corner_chains(faces, len(vertices)))
    left = _swept(work, edges, target, allowed_sq, part_of(progress, 0.1, 0.4))
    if left > target:
        rest = edge_table(faces[alive])[0]
        arguments = (*work[:2], rest, *work[2:], left, target, allowed_sq)
        collapsing = part_of(progress, 0.4, 0.9)
        watched(lambda board: _kernels.collapse(*arguments, board), collapsing, left - target, said)
    progress(0.9, said)
    out, crossing = _collected(mesh, vertices + centre, faces, alive)
    if keep_texture and mesh.texture is not None:
        out = replace(out, mesh=carried_texture(mesh, out.mesh, out.birth))
    return out, crossing


def _swept(
    work: tuple[np.ndarray, ...], edges: np.ndarray, target: int, allowed_sq: np.ndarray, progress: Progress
) -> int:
    """Sweep away the cheapest edges of a mesh far over its target; returns how many faces are left."""
    vertices, _, quadrics, alive = work[0], work[1], work[2], work[6]
    left, goal = len(alive), int(SWEEP_TO * target)
    if left <= goal:
        return left
    sample = edges[:: max(len(edges) // SWEEP_SAMPLE, 1)]
    middle = vertices[sample].mean(axis=1)
    # The cost of merging at the middle is a fair guide to where the cheap edges end.
    cost = np.maximum(_quadric_at(quadrics[sample].sum(axis=1), middle), 0)
    threshold = float(np.quantile(cost, SWEEP_START)) + 1e-12
    begun = left
    for _ in range(SWEEPS):
        progress((begun - left) / (begun - goal), f"Simplifying {begun:,} triangles")
        left = _kernels.sweep(*work, left, goal, threshold, allowed_sq)
        if left <= goal:
            break
        threshold *= SWEEP_GROWTH
    return left


def _quadric_at(q: np.ndarray, p: np.ndarray) -> np.ndarray:
    x, y, z = p.T
    square = q[:, 0] * x * x + q[:, 4] * y * y + q[:, 7] * z * z
    mixed = q[:, 1] * x * y + q[:, 2] * x * z + q[:, 5] * y * z + q[:, 3] * x + q[:, 6] * y + q[:, 8] * z
    return square + 2 * mixed + q[:, 9]


def _collected(
    mesh: TriangleMesh, vertices: np.ndarray, faces: np.ndarray, alive: np.ndarray
) -> tuple[Simplified, np.ndarray]:
    kept = np.flatnonzero(alive)
    used, new = np.unique(faces[kept], return_inverse=True)
    bare, crossing = untangled(TriangleMesh(vertices[used].astype(np.float32), new.reshape(-1, 3).astype(np.int32)))
    colours = None
    if mesh.colours is not None:
        _, nearest = cKDTree(mesh.vertices).query(bare.vertices, workers=-1)
        colours = mesh.colours[nearest]
    made_up = None if mesh.made_up is None else mesh.made_up[kept]
    return Simplified(replace(bare, colours=colours, made_up=made_up), kept), crossing
