"""Healing colour: what is marked takes the colour of its surroundings, over the surface and not over the texture's charts.

The colour at the rim of the marked part flows in by Laplace's equation (as the membrane of Pérez et al. 2003,
doi:10.1145/882262.882269, without a gradient of its own), then the grain of the surroundings is laid over it, so that
the place is not told by its smoothness.
"""

from dataclasses import dataclass, replace

import numpy as np

from lucid_relic.colour import _view_kernels
from lucid_relic.colour.lay import continued_over_surface, shares
from lucid_relic.colour.patched import in_vertex_colours
from lucid_relic.errors import StepNotPossible
from lucid_relic.light.srgb import to_linear, to_srgb
from lucid_relic.types import TriangleMesh

MOST_SHARE = 0.5  # of the area: what is left must tell the colour
SEED = 11
COVER = 1.0  # texels beyond its faces that a healed part is painted: filtering of the texture reaches that far


@dataclass(frozen=True)
class HealedColour:
    """The mesh, and how many texels (0 without a texture) took the colour of their surroundings."""

    mesh: TriangleMesh
    texels: int


def heal_colour(mesh: TriangleMesh, chosen: np.ndarray) -> HealedColour:
    """Give the faces in chosen (m,) bool the colour of what is around them.

    Raises `StepNotPossible` without colours, or when so much is chosen that nothing is left to tell the colour.
    """
    if mesh.colours is None and mesh.texture is None:
        raise StepNotPossible("There is no colour to heal yet. Lay colour first.")
    area = np.linalg.norm(mesh.face_normals(), axis=1)
    if float(area[chosen].sum()) > MOST_SHARE * float(area.sum()):
        raise StepNotPossible("More than half of the surface is marked: mark only what has the wrong colour.")
    inside = np.zeros(len(mesh.vertices), bool)
    inside[mesh.faces[chosen]] = True
    around = np.zeros(len(mesh.vertices), bool)
    around[mesh.faces[~chosen]] = True
    linear = to_linear(in_vertex_colours(mesh).colours)
    healed = continued_over_surface(mesh, linear, around | ~inside)
    colours = None if mesh.colours is None else mesh.colours.copy()
    if colours is not None:
        own = inside & ~around
        colours[own] = to_srgb(healed[own])
    out = replace(mesh, colours=colours)
    return HealedColour(out, 0) if mesh.texture is None else _texture_healed(out, chosen, healed)


def _texture_healed(mesh: TriangleMesh, chosen: np.ndarray, healed: np.ndarray) -> HealedColour:
    texture = mesh.texture
    size = len(texture.image)
    faces = np.flatnonzero(chosen)
    uv = texture.uv.astype(np.float64) * size - 0.5
    uv[:, :, 1] = size - 1 - uv[:, :, 1]
    owner = np.full((size, size), -1, np.int32)
    _view_kernels.rasterise(_widened(uv[faces]), owner)
    # What belongs to others stays theirs, but for the ring that only filtering reaches.
    others = np.full((size, size), -1, np.int32)
    _view_kernels.rasterise(uv[~chosen], others)
    own = np.full((size, size), -1, np.int32)
    _view_kernels.rasterise(uv[faces], own)
    rows, columns = np.nonzero((owner >= 0) & ((others < 0) | (own >= 0)))
    face = faces[owner[rows, columns]]
    part = shares(uv[face], np.stack([columns, rows], axis=1))
    colour = np.einsum("nk,nkc->nc", part, healed[mesh.faces[face]])
    image = texture.image.copy()
    image[rows, columns] = to_srgb(colour * _grain(mesh, chosen, uv, len(rows)))
    unseen = texture.unseen
    if unseen is not None:
        unseen = unseen.copy()
        unseen[rows, columns] = True
    covered = max(int((others >= 0).sum() + (own >= 0).sum()), 1)
    seen = texture.seen if unseen is None else float(1 - (unseen & ((others >= 0) | (own >= 0))).sum() / covered)
    return HealedColour(replace(mesh, texture=replace(texture, image=image, unseen=unseen, seen=seen)), len(rows))


def _widened(uv: np.ndarray) -> np.ndarray:
    """Triangles (m, 3, 2) with their corners moved out by about `COVER` texels."""
    away = uv - uv.mean(axis=1, keepdims=True)
    length = np.maximum(np.linalg.norm(away, axis=2, keepdims=True), 1e-9)
    return uv + away / length * 2 * COVER


def _grain(mesh: TriangleMesh, chosen: np.ndarray, uv: np.ndarray, count: int) -> np.ndarray:
    """(count, 1) factors with the spread that the brightness of neighbouring texels has around the marked part."""
    touched = np.zeros(len(mesh.vertices), bool)
    touched[mesh.faces[chosen]] = True
    for _ in range(3):
        touched[mesh.faces[touched[mesh.faces].any(axis=1)]] = True
    ring = touched[mesh.faces].all(axis=1) & ~chosen
    middle = np.round(uv[ring].mean(axis=1)).astype(int)
    side = len(mesh.texture.image)
    x, y = np.clip(middle[:, 0], 1, side - 2), np.clip(middle[:, 1], 1, side - 2)
    if len(x) < 8:
        return np.ones((count, 1))
    bright = lambda dx, dy: to_linear(mesh.texture.image[y + dy, x + dx]).mean(axis=1)  # noqa: E731
    around = (bright(-1, 0) + bright(1, 0) + bright(0, -1) + bright(0, 1)) / 4
    off = (bright(0, 0) - around) / np.maximum(around, 0.02)
    # The mean of four has a quarter of the variance of one.
    spread = 1.4826 * float(np.median(np.abs(off - np.median(off)))) / np.sqrt(1.25)
    return np.clip(1 + np.random.default_rng(SEED).normal(0, spread, (count, 1)), 0.5, 1.5)
