"""Evening out the triangles of a mesh: all edges near one length, valences near six.

Isotropic remeshing after Botsch & Kobbelt (2004), doi:10.1145/1057432.1057457: split long edges, collapse
short ones, flip towards valence six, relax in the tangent plane, project back onto the original surface.
Creases and borders are held: their vertices stay where they are, so sharp edges do not wear off.
"""

from dataclasses import replace

import numpy as np

from lucid_relic.errors import StepNotPossible
from lucid_relic.geometry.bvh import TriangleTree
from lucid_relic.geometry.topology import edge_table, side_pairs
from lucid_relic.mending import _kernels
from lucid_relic.mending.untangle import untangled
from lucid_relic.progress import Progress
from lucid_relic.types import TriangleMesh

ROUNDS = 5  # after which triangles are even (Botsch & Kobbelt 2004)
SPLIT_PASSES = 12  # halve the longest edge 4096 times
LONG, SHORT = 4 / 3, 4 / 5  # of the wanted length (Botsch & Kobbelt 2004)
CREASE_COS = np.cos(np.radians(50.0))  # edges that bend by more than 50° stay
RELAXATION = 0.6  # of the step to the middle of the neighbours: all of it would swing
MAX_TRIANGLES = 20_000_000  # 3 GB


def remesh(mesh: TriangleMesh, edge_mm: float, progress: Progress) -> TriangleMesh:
    """The surface with edges near `edge_mm` long; colours and made-up flags come from the nearest old place.

    A texture is taken off. Raises `StepNotPossible` when there would be too many triangles.
    """
    wanted = mesh.area_mm2() / (np.sqrt(3) / 4 * edge_mm**2)
    if wanted > MAX_TRIANGLES:
        raise StepNotPossible(
            f"Edges of {edge_mm:g} mm would make {wanted / 1e6:.0f} million triangles. Choose longer ones."
        )
    original = TriangleTree(mesh)
    vertices, faces = mesh.vertices.astype(np.float64), mesh.faces.astype(np.int64)
    for turn in range(ROUNDS):
        progress(turn / ROUNDS, f"Evening out the triangles, round {turn + 1} of {ROUNDS}")
        vertices, faces = _split(vertices, faces, LONG * edge_mm)
        vertices, faces = _collapsed(vertices, faces, SHORT * edge_mm, LONG * edge_mm)
        faces = _flipped(vertices, faces)
        vertices = _relaxed(vertices, faces, original)
    even, _ = untangled(TriangleMesh(vertices.astype(np.float32), faces.astype(np.int32)))
    return _described(mesh, even, original)


def _split(vertices: np.ndarray, faces: np.ndarray, longest: float) -> tuple[np.ndarray, np.ndarray]:
    """Halve edges over `longest`; in one pass an edge is halved when it is the longest of both its faces."""
    for _ in range(SPLIT_PASSES):
        edges, uses, side_edge = edge_table(faces)
        length = np.linalg.norm(vertices[edges[:, 0]] - vertices[edges[:, 1]], axis=1)
        longest_side = np.argmax(length[side_edge], axis=1)
        chosen = side_edge[np.arange(len(faces)), longest_side]
        votes = np.bincount(chosen, minlength=len(edges))
        halved = (votes == uses) & (length > longest)
        if not halved.any():
            break
        middle = np.full(len(edges), -1)
        middle[halved] = len(vertices) + np.arange(int(halved.sum()))
        vertices = np.concatenate([vertices, vertices[edges[halved]].mean(axis=1)])
        cut = np.flatnonzero(halved[chosen])
        rolled = np.take_along_axis(faces[cut], (longest_side[cut, None] + np.arange(3)) % 3, axis=1)
        m = middle[chosen[cut]]
        one = np.stack([rolled[:, 0], m, rolled[:, 2]], axis=1)
        two = np.stack([m, rolled[:, 1], rolled[:, 2]], axis=1)
        faces = np.concatenate([np.delete(faces, cut, axis=0), one, two])
    return vertices, faces


def _held(vertices: np.ndarray, faces: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Which vertices lie on a crease or border, and which on a border."""
    normals = _normals(vertices, faces)
    a, b = side_pairs(faces)
    crease = np.einsum("ij,ij->i", normals[a // 3], normals[b // 3]) < CREASE_COS
    border = np.zeros(len(vertices), bool)
    edges, uses, _ = edge_table(faces)
    border[edges[uses != 2]] = True
    held = border.copy()
    held[faces[a[crease] // 3, a[crease] % 3]] = True
    held[faces[a[crease] // 3, (a[crease] + 1) % 3]] = True
    return held, border


def _normals(vertices: np.ndarray, faces: np.ndarray) -> np.ndarray:
    p = vertices[faces]
    n = np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0])
    return n / np.maximum(np.linalg.norm(n, axis=1, keepdims=True), 1e-30)


def _collapsed(
    vertices: np.ndarray, faces: np.ndarray, shortest: float, longest: float
) -> tuple[np.ndarray, np.ndarray]:
    held, border = _held(vertices, faces)
    alive = np.ones(len(faces), np.bool_)
    unused = np.zeros((len(vertices), 10)), np.zeros(len(vertices))
    chains = _kernels.corner_chains(faces, len(vertices))
    _kernels.collapse_short(vertices, faces, *unused, border, held, alive, *chains, shortest, longest)
    used, new = np.unique(faces[alive], return_inverse=True)
    return vertices[used], new.reshape(-1, 3)


def _flipped(vertices: np.ndarray, faces: np.ndarray) -> np.ndarray:
    _, border = _held(vertices, faces)
    wish = np.where(border, 4, 6)
    for _ in range(3):
        edges, _, _ = edge_table(faces)
        valence = np.bincount(edges.ravel(), minlength=len(vertices))
        normals = _normals(vertices, faces)
        a, b = side_pairs(faces)
        sharp = np.einsum("ij,ij->i", normals[a // 3], normals[b // 3]) < CREASE_COS
        keys = edges[:, 0] << 32 | edges[:, 1]
        if not _kernels.flip_edges(vertices, faces, a, b, keys, sharp, valence, wish):
            break
    return faces


def _relaxed(vertices: np.ndarray, faces: np.ndarray, original: TriangleTree) -> np.ndarray:
    """Draw free vertices to the middle of their neighbours, in their tangent plane, then back to the surface."""
    held, _ = _held(vertices, faces)
    n = len(vertices)
    i, j = faces.ravel(), np.roll(faces, -1, axis=1).ravel()
    total = np.stack([np.bincount(i, vertices[j, k], n) + np.bincount(j, vertices[i, k], n) for k in range(3)], axis=1)
    count = np.bincount(i, minlength=n) + np.bincount(j, minlength=n)
    step = total / np.maximum(count, 1)[:, None] - vertices
    normal = TriangleMesh(vertices.astype(np.float32), faces.astype(np.int32)).vertex_normals().astype(np.float64)
    step -= normal * np.einsum("ij,ij->i", step, normal)[:, None]
    moved = vertices + RELAXATION * step
    moved[~held] = original.foot(moved[~held])[0]
    moved[held] = vertices[held]
    return moved


def _described(mesh: TriangleMesh, even: TriangleMesh, original: TriangleTree) -> TriangleMesh:
    colours = made_up = None
    if mesh.made_up is not None:
        made_up = mesh.made_up[original.closest(even.face_centres())[1]]
    if mesh.colours is not None:
        _, face, share = original.foot(even.vertices)
        corner = mesh.colours[mesh.faces[face]].astype(np.float64)
        colours = np.round(np.einsum("nk,nkc->nc", share, corner)).astype(np.uint8)
    return replace(even, colours=colours, made_up=made_up)
