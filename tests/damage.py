"""Damaging sound meshes by code: holes, fins, doubled, flipped and flat triangles, torn corners, crossings, shared corners."""

from dataclasses import replace

import numpy as np

from lucid_relic.geometry.bvh import TriangleTree
from lucid_relic.types import TriangleMesh


def _near(mesh: TriangleMesh, rng: np.random.Generator, count: int) -> np.ndarray:
    """Some triangles (k,) around a random place, those next to it first."""
    centres = mesh.face_centres()
    place = centres[rng.integers(len(centres))]
    return np.argsort(np.linalg.norm(centres - place, axis=1))[:count]


def _add(mesh: TriangleMesh, faces: np.ndarray, vertices: np.ndarray | None = None) -> TriangleMesh:
    grown = mesh.vertices if vertices is None else np.concatenate([mesh.vertices, vertices.astype(np.float32)])
    return TriangleMesh(grown, np.concatenate([mesh.faces, faces.astype(np.int32)]))


def hole(mesh: TriangleMesh, rng: np.random.Generator) -> tuple[TriangleMesh, np.ndarray]:
    gone = _near(mesh, rng, int(rng.integers(1, 40)))
    keep = np.ones(len(mesh.faces), bool)
    keep[gone] = False
    return replace(mesh, faces=mesh.faces[keep]), mesh.face_centres()[gone]


def fin(mesh: TriangleMesh, rng: np.random.Generator) -> tuple[TriangleMesh, np.ndarray]:
    face = int(rng.integers(len(mesh.faces)))
    a, b = mesh.faces[face, :2]
    tip = mesh.vertices[mesh.faces[face]].mean(axis=0) + mesh.face_normals()[face] / np.linalg.norm(
        mesh.face_normals()[face]
    )
    return _add(mesh, np.array([[a, b, len(mesh.vertices)]]), tip[None]), mesh.face_centres()[[face]]


def doubled(mesh: TriangleMesh, rng: np.random.Generator) -> tuple[TriangleMesh, np.ndarray]:
    some = _near(mesh, rng, int(rng.integers(1, 12)))
    copy = mesh.faces[some]
    return _add(mesh, copy[:, ::-1] if rng.random() < 0.5 else np.roll(copy, 1, axis=1)), mesh.face_centres()[some]


def flipped(mesh: TriangleMesh, rng: np.random.Generator) -> tuple[TriangleMesh, np.ndarray]:
    some = _near(mesh, rng, int(rng.integers(1, 60)))
    faces = mesh.faces.copy()
    faces[some] = faces[some][:, ::-1]
    return replace(mesh, faces=faces), np.empty((0, 3))


def flat(mesh: TriangleMesh, rng: np.random.Generator) -> tuple[TriangleMesh, np.ndarray]:
    """A corner named twice, and a corner put onto the middle of the side across."""
    face = int(rng.integers(len(mesh.faces)))
    a, b, _ = mesh.faces[face]
    out = _add(mesh, np.array([[a, b, b]]))
    other = int(rng.integers(len(mesh.faces)))
    i, j, k = mesh.faces[other]
    vertices = out.vertices.copy()
    vertices[k] = (vertices[i] + vertices[j]) / 2
    touched = (mesh.faces == k).any(axis=1)
    return replace(out, vertices=vertices), mesh.face_centres()[touched]


def torn(mesh: TriangleMesh, rng: np.random.Generator) -> tuple[TriangleMesh, np.ndarray]:
    """Triangles with corners of their own, at the same places."""
    some = _near(mesh, rng, int(rng.integers(1, 30)))
    own = mesh.vertices[mesh.faces[some]].reshape(-1, 3)
    faces = mesh.faces.copy()
    faces[some] = (len(mesh.vertices) + np.arange(len(own))).reshape(-1, 3)
    return TriangleMesh(np.concatenate([mesh.vertices, own]), faces), np.empty((0, 3))


def crossing(mesh: TriangleMesh, rng: np.random.Generator) -> tuple[TriangleMesh, np.ndarray]:
    """A corner pushed a few sides along the surface and a little off it, until triangles pass through each other."""
    while True:
        corner = int(rng.integers(len(mesh.vertices)))
        touched = (mesh.faces == corner).any(axis=1)
        if not touched.any():
            continue
        around = mesh.vertices[np.unique(mesh.faces[touched])]
        side = np.linalg.norm(around - mesh.vertices[corner], axis=1).max()
        normal = mesh.face_normals()[touched].sum(axis=0)
        way = 2.5 * _tangent(mesh, touched, rng) + rng.uniform(-0.8, 0.8) * normal / np.linalg.norm(normal)
        vertices = mesh.vertices.copy()
        vertices[corner] += (side * way).astype(np.float32)
        near = np.linalg.norm(mesh.face_centres() - mesh.vertices[corner], axis=1) < 4 * side
        part = TriangleMesh(vertices, mesh.faces[near])
        if len(TriangleTree(part).crossing_faces()):
            return replace(mesh, vertices=vertices), mesh.face_centres()[near]


def _tangent(mesh: TriangleMesh, faces: np.ndarray, rng: np.random.Generator) -> np.ndarray:
    normal = mesh.face_normals()[faces].sum(axis=0)
    way = np.cross(normal, rng.normal(size=3))
    out: np.ndarray = way / np.linalg.norm(way)
    return out


def shared(mesh: TriangleMesh, rng: np.random.Generator) -> tuple[TriangleMesh, np.ndarray]:
    """A small tetrahedron that hangs on an edge of the surface: four triangles share it."""
    face = int(rng.integers(len(mesh.faces)))
    a, b, _ = mesh.faces[face]
    normal = mesh.face_normals()[face]
    normal /= np.linalg.norm(normal)
    p, q = mesh.vertices[a], mesh.vertices[b]
    side = float(np.linalg.norm(q - p))
    across = np.cross(normal, q - p) / side
    top = (p + q) / 2 + side * normal
    new = np.stack([top + 0.3 * side * across, top - 0.3 * side * across])
    n = len(mesh.vertices)
    tetra = np.array([[a, b, n], [b, a, n + 1], [a, n, n + 1], [b, n + 1, n]])
    return _add(mesh, tetra, new), np.concatenate([mesh.face_centres()[[face]], new, [p], [q]])


def lost(mesh: TriangleMesh, rng: np.random.Generator) -> tuple[TriangleMesh, np.ndarray]:
    """A corner whose place is no number."""
    corner = int(rng.integers(len(mesh.vertices)))
    touched = (mesh.faces == corner).any(axis=1)
    vertices = mesh.vertices.copy()
    vertices[corner] = np.nan
    return replace(mesh, vertices=vertices), mesh.face_centres()[touched]


KINDS = (hole, fin, doubled, flipped, flat, torn, crossing, shared, lost)


def damaged(mesh: TriangleMesh, rng: np.random.Generator, faults: int) -> tuple[TriangleMesh, np.ndarray, list[str]]:
    """The mesh with random faults, the places (k, 3) of the triangles that were touched, and the kinds of fault."""
    places, kinds = [], []
    for _ in range(faults):
        kind = KINDS[rng.integers(len(KINDS))]
        sound = np.isfinite(mesh.vertices[mesh.faces]).all(axis=(1, 2))
        if not sound.all() and kind is not lost:
            # What is no number stays for the repair; the next fault goes elsewhere.
            rest, touched = kind(replace(mesh, faces=mesh.faces[sound]), rng)
            mesh = TriangleMesh(rest.vertices, np.concatenate([rest.faces, mesh.faces[~sound]]))
        elif sound.all():
            mesh, touched = kind(mesh, rng)
        else:
            continue
        places.append(touched)
        kinds.append(kind.__name__)
    return mesh, np.concatenate([np.empty((0, 3)), *places]), kinds
