"""Glare and shadow: where single photographs show a place far brighter or darker than the others agree on.

A gloss moves over the surface as the object turns before the lamps, a shadow likewise, while the colour stays. At a
sample of places every photograph is held against the median of all that see the place squarely (a robust vote, as
Waechter et al. 2014 throw out what other views contradict, doi:10.1007/978-3-319-10602-1_54). Around what is strange
a photograph is trusted so little that others are taken, as long as there are any.
"""

from dataclasses import dataclass

import numpy as np
from scipy.ndimage import gaussian_filter
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from lucid_relic.colour import _view_kernels
from lucid_relic.colour.even_light import Light
from lucid_relic.colour.photographs import Photographs
from lucid_relic.geometry.rigid import transform_points
from lucid_relic.types import Camera, TriangleMesh

SAMPLES = 24_000  # places where photographs are compared
LEAST_VIEWS = 3  # that must see a place: of two nobody knows which is right
SQUARE = 0.1  # of the best look's weight: flatter ones see gloss that is none
BRIGHT, DARK = 0.30, 0.45  # natural logarithms of luminance beyond the median
DARKEST = 0.004  # linear light under which noise tells nothing
SPREAD = 1.2  # around a strange sample, in spacings of the samples
LEAST_TRUST = 0.02  # that is left: it may be the only photograph
LEAST_SPOTS = 4  # samples that make a place, not a speck of noise
LUMA = np.array([0.2126, 0.7152, 0.0722])


@dataclass(frozen=True)
class StrangePlace:
    """A place (mm) where `views` of the photographs were left out for "glare" or "shadow", and its area (mm²)."""

    kind: str
    at: tuple[float, float, float]
    area_mm2: float
    views: int


@dataclass(frozen=True)
class StrangeLight:
    """trust: that of the photographs, lowered (as in `Photographs.arrays`); places, the largest first; touched: photographs."""

    trust: np.ndarray
    places: tuple[StrangePlace, ...]
    touched: int


def strange_light(
    mesh: TriangleMesh, normals: np.ndarray, photos: Photographs, light: Light, tolerance: float
) -> StrangeLight:
    """What photographs show that the others contradict, found at a seeded sample of the vertices."""
    table, _, trust, _, _ = photos.arrays
    if photos.count < LEAST_VIEWS:
        return StrangeLight(trust, (), 0)
    chosen = np.random.default_rng(5).permutation(len(mesh.vertices))[:SAMPLES]
    points, facing = mesh.vertices[chosen], normals[chosen]
    k, n = photos.count, len(points)
    weight, colour = np.zeros((k, n), np.float32), np.zeros((k, n, 3), np.float32)
    direction = np.zeros((k, n, 2), np.float32)
    _view_kernels.observe(points, facing, *photos.arrays, tolerance, weight, colour, direction)
    off, square = _off_the_others(weight, colour, direction, light)
    glare, shadow = square & (off > BRIGHT), square & (off < -DARK)
    strange = glare | shadow
    # A place that most photographs contradict is an edge or a gloss all around: nobody can be left out there.
    strange &= strange.sum(axis=0) < 0.5 * np.maximum(square.sum(axis=0), 1)
    if not strange.any():
        return StrangeLight(trust, (), 0)
    spacing = float(np.sqrt(mesh.area_mm2() / max(n, 1)))
    lowered = trust.copy()
    touched = 0
    for view in np.flatnonzero(strange.any(axis=1)):
        touched += 1
        _lower(lowered, table[view], points, strange[view], square[view], spacing)
    places = [
        *_places("glare", points, (glare & strange).sum(axis=0), spacing),
        *_places("shadow", points, (shadow & strange).sum(axis=0), spacing),
    ]
    return StrangeLight(lowered, tuple(sorted(places, key=lambda p: -p.area_mm2)), touched)


def _off_the_others(
    weight: np.ndarray, colour: np.ndarray, direction: np.ndarray, light: Light
) -> tuple[np.ndarray, np.ndarray]:
    """(k, n) natural logarithm of how much brighter each photograph shows a place than their median, and which see it squarely."""
    x, y = direction[..., 0], direction[..., 1]
    terms = np.stack([x, y, x * x, x * y, y * y], axis=2)
    limit = _view_kernels.SHADE_LIMIT
    fall = np.clip(terms @ light.shade.T.astype(np.float32), -limit, limit)
    evened = colour * np.exp(-fall - light.gain[:, None].astype(np.float32))
    bright = np.log(np.maximum(evened @ LUMA, DARKEST))
    square = (weight > SQUARE * weight.max(axis=0)) & (weight > 0)
    square &= square.sum(axis=0) >= LEAST_VIEWS
    held = np.where(square, bright, np.nan)
    middle = np.zeros(weight.shape[1])
    some = square.any(axis=0)
    middle[some] = np.nanmedian(held[:, some], axis=0)
    return np.where(square, bright - middle, 0.0), square


def _lower(
    trust: np.ndarray, row: np.ndarray, points: np.ndarray, strange: np.ndarray, square: np.ndarray, spacing: float
) -> None:
    """Trust one photograph less around its strange places."""
    height, width = int(row[_view_kernels.SHAPE]), int(row[_view_kernels.SHAPE + 1])
    start = int(row[_view_kernels.START])
    lens = row[_view_kernels.DEPTH_CAMERA :]
    camera = Camera(width, height, lens[0], lens[1], lens[2], lens[3], tuple(lens[4:9]))
    seen = transform_points(np.vstack([row[:12].reshape(3, 4), [0, 0, 0, 1]]), points[square].astype(np.float64))
    u, v = np.round(camera.project(seen)).astype(int).T
    inside = (u >= 0) & (v >= 0) & (u < width) & (v < height)
    flags = strange[square][inside].astype(np.float32)
    at = v[inside] * width + u[inside]
    pixels = height * width
    sigma = max(SPREAD * spacing * camera.fx / float(np.median(seen[:, 2])), 1.0)
    asked, odd = (
        gaussian_filter(np.bincount(at, w, minlength=pixels).reshape(height, width), sigma)
        for w in (np.ones_like(flags), flags)
    )
    share = np.where(asked > 1e-6, odd / np.maximum(asked, 1e-6), 0.0)
    # Where a third of what is around is strange, nothing of it is taken: a gloss has soft borders.
    factor = np.clip(1 - 3 * share, LEAST_TRUST, 1.0)
    part = trust[start : start + pixels]
    lowered = np.round(part * factor.ravel())
    part[:] = np.where(part > 0, np.maximum(lowered, 1), 0).astype(np.uint8)


def _places(kind: str, points: np.ndarray, views: np.ndarray, spacing: float) -> list[StrangePlace]:
    """Strange samples that lie together, as places."""
    own = np.flatnonzero(views)
    if not len(own):
        return []
    near = cKDTree(points[own]).query_pairs(3 * spacing, output_type="ndarray")
    ties = coo_matrix((np.ones(len(near)), (near[:, 0], near[:, 1])), shape=(len(own),) * 2)
    _, label = connected_components(ties, directed=False)
    out = []
    for group in np.unique(label):
        members = own[label == group]
        if len(members) < LEAST_SPOTS:
            continue
        middle = points[members].mean(axis=0)
        nearest = points[members[np.argmin(((points[members] - middle) ** 2).sum(axis=1))]]
        x, y, z = (round(float(v), 3) for v in nearest)
        out.append(StrangePlace(kind, (x, y, z), round(len(members) * spacing**2, 2), int(views[members].max())))
    return out
