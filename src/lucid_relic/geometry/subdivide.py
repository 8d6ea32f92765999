"""Some triangles of a mesh split in four, their neighbours so that no crack comes of it."""

import numpy as np

from lucid_relic.geometry.topology import edge_table
from lucid_relic.types import TriangleMesh


def subdivided(mesh: TriangleMesh, chosen: np.ndarray) -> tuple[TriangleMesh, np.ndarray]:
    """The mesh with the triangles in chosen (m,) bool split at the middles of their sides, and of every new one the old (k,).

    Vertices keep their numbers, new ones follow; a triangle beside chosen ones is split in two, three or four. Colours are
    means, made-up flags those of the old triangle; a texture is taken off.
    """
    edges, _, of_side = edge_table(mesh.faces)
    split = np.zeros(len(edges), bool)
    split[of_side[chosen]] = True
    number = np.full(len(edges), -1)
    number[split] = len(mesh.vertices) + np.arange(int(split.sum()))
    ends = edges[split]
    vertices = np.concatenate([mesh.vertices, mesh.vertices[ends].mean(axis=1, dtype=np.float64).astype(np.float32)])
    colours = mesh.colours
    if colours is not None:
        colours = np.concatenate([colours, mesh.colours[ends].mean(axis=1).round().astype(np.uint8)])
    sides = split[of_side]
    how_many = sides.sum(axis=1)
    # Turned so that what is special about a triangle is always at the same side.
    first = np.where(how_many == 2, np.argmin(sides, axis=1) + 1, np.argmax(sides, axis=1)) % 3
    turn = (first[:, None] + np.arange(3)) % 3
    f = np.take_along_axis(mesh.faces.astype(np.int64), turn, axis=1)
    e = number[np.take_along_axis(of_side, turn, axis=1)]
    a, b, c = f.T
    ab, bc, ca = e.T
    pieces = {
        0: [(a, b, c)],
        1: [(a, ab, c), (ab, b, c)],
        2: [(ab, b, bc), (a, ab, c), (ab, bc, c)],
        3: [(a, ab, ca), (ab, b, bc), (ca, bc, c), (ab, bc, ca)],
    }
    faces, of = [], []
    for count, parts in pieces.items():
        which = np.flatnonzero(how_many == count)
        for part in parts:
            faces.append(np.column_stack([corner[which] for corner in part]))
            of.append(which)
    born = np.concatenate(of)
    order = np.argsort(born, kind="stable")
    born = born[order]
    made = None if mesh.made_up is None else mesh.made_up[born]
    return TriangleMesh(vertices, np.concatenate(faces)[order].astype(np.int32), colours, made), born
