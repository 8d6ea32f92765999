"""Bridges: strips laid across large holes before these are closed, so that what is closed are smaller ones with a shape given.

A strip runs from a side of the rim to another one along a cubic that leaves and meets the surface along its tangents (Hermite).
"""

from dataclasses import replace

import numpy as np

from lucid_relic.errors import StepNotPossible
from lucid_relic.mending.rims import Rim, find_rims
from lucid_relic.types import TriangleMesh

LEAST_APART = 2  # sides of a rim between both ends: nearer ones leave no hole on one side
LEAST_STEPS = 2  # of a strip along its way

Ends = tuple[tuple[float, float, float], tuple[float, float, float]]


def bridged(mesh: TriangleMesh, ends: list[Ends]) -> TriangleMesh:
    """The mesh with a strip from rim to rim for each pair of places (mm); new triangles are made up, a texture is taken off.

    Raises `StepNotPossible` when both ends lie at different holes, or too near to each other.
    """
    for number, (begin, end) in enumerate(ends, start=1):
        rims = find_rims(mesh)
        if not rims:
            raise StepNotPossible("The mesh has no hole: there is nothing to bridge.")
        rim, i = _nearest(mesh, rims, begin)
        other, j = _nearest(mesh, rims, end)
        if rim is not other:
            raise StepNotPossible(f"Bridge {number} begins at one hole and ends at another. Click the same rim twice.")
        count = len(rim.corners)
        if min((i - j) % count, (j - i) % count) < LEAST_APART:
            raise StepNotPossible(f"Both ends of bridge {number} lie at the same place. Click two sides of the hole.")
        mesh = _with_strip(mesh, rim, i, j)
    return mesh


def _nearest(mesh: TriangleMesh, rims: list[Rim], place: tuple[float, float, float]) -> tuple[Rim, int]:
    """The rim that comes nearest to a place, and which of its corners does."""
    away = [np.linalg.norm(mesh.vertices[rim.corners] - np.array(place), axis=1) for rim in rims]
    rim = int(np.argmin([a.min() for a in away]))
    return rims[rim], int(np.argmin(away[rim]))


def _with_strip(mesh: TriangleMesh, rim: Rim, i: int, j: int) -> TriangleMesh:
    """The mesh with a strip from the side of the rim that begins at corner i to the one that begins at corner j."""
    corners = rim.corners
    count = len(corners)
    # A patch goes round as the rim does: from i over i + 1 across to j, and from j + 1 back.
    left = (int(corners[(i + 1) % count]), int(corners[j]))
    right = (int(corners[i]), int(corners[(j + 1) % count]))
    p = mesh.vertices.astype(np.float64)
    normals = mesh.vertex_normals().astype(np.float64)
    across = float(np.linalg.norm(p[left[1]] - p[left[0]]))
    steps = max(LEAST_STEPS, int(round(across / max(rim.length_mm / count, 1e-12))))
    share = np.arange(1, steps) / steps
    new = np.concatenate([_way(p, normals, *ends, share) for ends in (left, right)])
    first = len(p) + np.arange(steps - 1)
    a = np.array([left[0], *first, left[1]])
    b = np.array([right[0], *(first + steps - 1), right[1]])
    faces = np.concatenate(
        [np.column_stack([b[:-1], a[:-1], a[1:]]), np.column_stack([b[:-1], a[1:], b[1:]])],
    )
    made = np.zeros(len(mesh.faces) + len(faces), bool)
    made[: len(mesh.faces)] = False if mesh.made_up is None else mesh.made_up
    made[len(mesh.faces) :] = True
    colours = mesh.colours
    if colours is not None:
        ends = [np.outer(1 - share, colours[u]) + np.outer(share, colours[v]) for u, v in (left, right)]
        colours = np.concatenate([colours, np.round(np.concatenate(ends)).astype(np.uint8)])
    return replace(
        mesh,
        vertices=np.concatenate([mesh.vertices, new.astype(np.float32)]),
        faces=np.concatenate([mesh.faces, faces.astype(np.int32)]),
        colours=colours,
        made_up=made,
        texture=None,
    )


def _way(p: np.ndarray, normals: np.ndarray, begin: int, end: int, share: np.ndarray) -> np.ndarray:
    """Places (k, 3) at shares of the way from one vertex to another, leaving and meeting the surface along it."""
    straight = p[end] - p[begin]
    length = np.linalg.norm(straight)
    tangents = []
    for vertex in (begin, end):
        along = straight - normals[vertex] * (normals[vertex] @ straight)
        tangents.append(along * length / max(float(np.linalg.norm(along)), 1e-12))
    s = share[:, None]
    out: np.ndarray = (
        (2 * s**3 - 3 * s**2 + 1) * p[begin]
        + (s**3 - 2 * s**2 + s) * tangents[0]
        + (3 * s**2 - 2 * s**3) * p[end]
        + (s**3 - s**2) * tangents[1]
    )
    return out
