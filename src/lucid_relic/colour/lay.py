"""Lay colour: the photographs of the placed passes onto a mesh, as a texture or per vertex.

Each texel takes its best photographs by slant, distance and nearness to a border of what was seen, only
where the frame's own depth says that it saw this very place; exposure and the fall of the light are evened
out first (`colour.even_light`), then they are blended sharply in linear light, with glare held down. What no
photograph saw takes the colour of the points that came in there, else of its surroundings along the surface.
"""

from collections.abc import Container
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from scipy.sparse import coo_matrix, diags
from scipy.sparse.linalg import cg

from lucid_relic.colour import _view_kernels
from lucid_relic.colour.atlas import Atlas, make_atlas
from lucid_relic.colour.even_light import even_light
from lucid_relic.colour.from_points import PointColours, has_own_colour
from lucid_relic.colour.photographs import photographs
from lucid_relic.colour.strange_light import StrangePlace, strange_light
from lucid_relic.errors import StepNotPossible
from lucid_relic.light.srgb import LINEAR, to_srgb
from lucid_relic.progress import Progress, part_of
from lucid_relic.types import ScanState, Texture, TriangleMesh

NO_COLOUR = "No frame has a photograph and no pass of points has colours, so there is no colour to lay."
CORNER = (slice(0, 8), slice(0, 8))  # of a photograph, which tells that it is there
GUTTER_RINGS = 6  # texels around charts that take their colour: mip levels down to 1/8 stay clean
PARTS = 16  # of the faces, painted between two words of progress
TOLERANCE_MM = 0.6  # that a photograph may see before or behind the surface and still mean it
WIDE_MM = 3.0  # a face longer than this can be seen by photographs that see none of its corners
SIZES = (512, 1024, 2048, 4096, 8192)  # of textures, of which one is found
FILLED = 0.6  # share of its square that an atlas usually covers
PHOTO_STEP = 4  # texels each way that share what is known of their photograph
ENCODED = to_srgb(np.linspace(0, 1, 1 << 14))  # sRGB bytes of linear light in 2¹⁴ steps: finer than a byte anywhere


def has_colour(state: ScanState) -> bool:
    """Whether any placed pass has a photograph or points with colours; one frame with a photograph is enough."""
    passes = state.used_passes()
    frames = ((p, int(i)) for p in passes for i in p.frames_used())
    return any(map(has_own_colour, passes)) or any(p.source.colour(i, CORNER) is not None for p, i in frames)


@dataclass(frozen=True)
class Laid:
    """The mesh with its texture, texels per millimetre, how many photographs it is of, and how many of those were left
    out in the places where they show glare or shadow."""

    mesh: TriangleMesh
    texels_per_mm: float
    photographs: int
    touched: int
    strange: tuple[StrangePlace, ...]


def lay_colour(
    state: ScanState, mesh: TriangleMesh, size: int, progress: Progress, left_out: Container[tuple[str, int]] = ()
) -> Laid:
    """The mesh with vertex colours and a texture of `size`² texels from all placed passes.

    A size of 0 takes one that keeps what the photographs resolve. left_out names photographs that are not used.
    """
    progress(0.0, "Reading photographs")
    photos = photographs(state, part_of(progress, 0.0, 0.2), left_out)
    points = PointColours(state)
    if not photos.count and not points.some:
        raise StepNotPossible(NO_COLOUR)
    progress(0.2, "Evening out the light")
    normals = mesh.vertex_normals()
    tolerance = _tolerance(state)
    light = even_light(mesh, normals, photos, tolerance)
    progress(0.22, "Looking for glare and shadow")
    strange = strange_light(mesh, normals, photos, light, tolerance)
    table, depth, _, pictures, linear = photos.arrays
    asked = (table, depth, strange.trust, pictures, linear, tolerance, np.exp(-light.gain), light.shade)
    vertex_linear = np.zeros((len(mesh.vertices), 3), np.float32)
    chosen = np.full((len(mesh.vertices), _view_kernels.BEST), -1, np.int16)
    _view_kernels.colour_points(mesh.vertices, normals, *asked, vertex_linear, chosen)
    progress(0.25, "Continuing the colour where nothing was seen")
    seen_there = chosen[:, 0] >= 0
    told, known = points.at(mesh.vertices[~seen_there], normals[~seen_there])
    left = np.flatnonzero(~seen_there)[known]
    vertex_linear[left], seen_there[left] = told[known], True
    told_at = None if points.finer_than(mesh) else seen_there.copy()
    vertex_linear = continued_over_surface(mesh, vertex_linear, seen_there)
    size = size or own_size(mesh, photos.pixel_mm)
    atlas = make_atlas(mesh, size, part_of(progress, 0.3, 0.6))
    painting = (asked, normals, vertex_linear, chosen, points, told_at)
    image, seen, unseen = _paint(mesh, atlas, *painting, part_of(progress, 0.6, 1.0))
    uv = (atlas.uv + 0.5) / size
    uv[:, :, 1] = 1 - uv[:, :, 1]
    texture = Texture(image, uv.astype(np.float32), seen, unseen, _photo_map(mesh, atlas, chosen), photos.of)
    textured = replace(mesh, colours=to_srgb(vertex_linear), texture=texture)
    return Laid(textured, 1 / atlas.texel_mm, photos.count, strange.touched, strange.places)


def own_size(mesh: TriangleMesh, pixel_mm: float) -> int:
    """The smallest usual size of a texture whose texels are no coarser than pixels of `pixel_mm`; 2048 when that is not known."""
    if pixel_mm <= 0:
        return 2048
    wanted = np.sqrt(mesh.area_mm2() / FILLED) / pixel_mm
    return next((size for size in SIZES if size >= wanted), SIZES[-1])


def _photo_map(mesh: TriangleMesh, atlas: Atlas, chosen: np.ndarray) -> np.ndarray:
    """(t, t) uint16 of every `PHOTO_STEP`th texel: the photograph that its nearest corner has as its best, from 1; 0 is none."""
    side = atlas.size // PHOTO_STEP
    coarse = (atlas.uv + 0.5) / PHOTO_STEP - 0.5
    owner = np.full((side, side), -1, np.int32)
    _view_kernels.rasterise(coarse, owner)
    rows, columns = np.nonzero(owner >= 0)
    face = owner[rows, columns]
    nearest = shares(coarse[face], np.stack([columns, rows], axis=1)).argmax(axis=1)
    out = np.zeros((side, side), np.uint16)
    out[rows, columns] = chosen[mesh.faces[face, nearest], 0] + 1
    return out


def _tolerance(state: ScanState) -> float:
    voxel = state.volume.voxel_mm if state.volume is not None else 0.5
    noise = max(p.noise_mm for p in state.used_passes())
    return max(TOLERANCE_MM, 2.0 * voxel, 6.0 * noise)


def continued_over_surface(mesh: TriangleMesh, linear: np.ndarray, seen: np.ndarray) -> np.ndarray:
    """Colour of unseen vertices by Laplace's equation over the mesh, the seen ones as boundary."""
    unseen = np.flatnonzero(~seen)
    if not len(unseen) or not seen.any():
        return linear if seen.any() else np.full_like(linear, 0.25)
    n = len(linear)
    i = mesh.faces.ravel()
    j = np.roll(mesh.faces, -1, axis=1).ravel()
    ones = np.ones(len(i), np.float32)
    adjacency = coo_matrix((ones, (i, j)), shape=(n, n)).tocsr()
    adjacency = adjacency.maximum(adjacency.T)
    rows = adjacency[unseen]
    degree = np.asarray(rows.sum(axis=1)).ravel() + 1e-6
    system = diags(degree) - rows[:, unseen]
    mean = linear[seen].mean(axis=0)
    out = linear.copy()
    for c in range(3):
        right = rows[:, np.flatnonzero(seen)] @ linear[seen, c] + 1e-6 * mean[c]
        out[unseen, c], _ = cg(system, right, x0=np.full(len(unseen), mean[c]), rtol=1e-4, maxiter=400)
    return np.clip(out, 0, 1)


def _paint(
    mesh: TriangleMesh, atlas: Atlas, asked: tuple[Any, ...], normals: np.ndarray, vertex_linear: np.ndarray,
    chosen: np.ndarray, points: PointColours, told_at: np.ndarray | None, progress: Progress,
) -> tuple[np.ndarray, float, np.ndarray]:  # fmt: skip
    """The texture image (s, s, 3) uint8, the share of covered texels that have a colour of their own, and those that have none.

    told_at (n,) bool marks vertices that have a colour, where points show no more than lies between those.
    """
    size = atlas.size
    owner = np.full((size, size), -1, np.int32)
    _view_kernels.rasterise(atlas.uv, owner)
    corners = mesh.corners
    longest = np.linalg.norm(corners - np.roll(corners, 1, axis=1), axis=2).max(axis=1)
    image = np.zeros((size, size, 3), np.uint8)
    unseen = np.zeros((size, size), np.bool_)
    share = max(-(-len(mesh.faces) // PARTS), _view_kernels.FACES_AT_ONCE)
    for first in range(0, len(mesh.faces), share):
        progress(first / len(mesh.faces), "Laying colour")
        _view_kernels.paint(
            first, min(first + share, len(mesh.faces)), owner, atlas.uv, mesh.faces, mesh.vertices, normals, vertex_linear,
            chosen, longest > WIDE_MM, *asked, ENCODED, image, unseen,
        )  # fmt: skip
    if points.some and told_at is not None:
        unseen &= ~told_at[mesh.faces[np.maximum(owner, 0)]].all(axis=2)
    elif points.some:
        _paint_from_points(mesh, atlas, owner, normals, points, image, unseen, progress)
    filled = (owner >= 0).astype(np.uint8)
    covered = max(int(filled.sum()), 1)
    for ring in range(1, GUTTER_RINGS + 1):
        _view_kernels.widen(ring, image, filled, LINEAR, ENCODED)
    image[filled == 0] = to_srgb(vertex_linear.mean(axis=0))
    return image, float(1 - unseen.sum() / covered), unseen


def _paint_from_points(
    mesh: TriangleMesh, atlas: Atlas, owner: np.ndarray, normals: np.ndarray, points: PointColours, image: np.ndarray,
    unseen: np.ndarray, progress: Progress,
) -> None:  # fmt: skip
    """Colour the texels that no photograph saw from points, where there are any near."""
    rows, columns = np.nonzero(unseen)
    face = owner[rows, columns]
    share = shares(atlas.uv[face].astype(np.float64), np.stack([columns, rows], axis=1))
    corner = mesh.faces[face]
    places = np.einsum("nk,nkj->nj", share, mesh.vertices[corner])
    told, known = points.at(places, np.einsum("nk,nkj->nj", share, normals[corner]), progress)
    rows, columns = rows[known], columns[known]
    image[rows, columns] = to_srgb(told[known])
    unseen[rows, columns] = False


def shares(uv: np.ndarray, texels: np.ndarray) -> np.ndarray:
    """(n, 3) corner shares of texels (n, 2) in their triangles uv (n, 3, 2), kept within them."""
    a, b, c = uv[:, 0], uv[:, 1], uv[:, 2]
    cross = lambda p, q: p[:, 0] * q[:, 1] - p[:, 1] * q[:, 0]  # noqa: E731
    area = cross(b - a, c - a)
    area = np.where(np.abs(area) < 1e-12, 1e-12, area)
    s, t = cross(texels - a, c - a) / area, cross(b - a, texels - a) / area
    share = np.clip(np.stack([1 - s - t, s, t], axis=1), 0, None)
    return share / np.maximum(share.sum(axis=1, keepdims=True), 1e-12)
