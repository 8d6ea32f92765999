"""Evening out exposure and the fall of the light from what several photographs show of the same places.

A photograph k shows place i as log I = log a_i + g_k + f(n), where a_i is the place's own colour, g_k the
gain of the photograph and f a quadratic in the direction n of the surface seen from the camera: lamps
that stand still with the camera light a facing surface more than a slanted one. g and f follow by robust
least squares with all a_i eliminated (the panorama gain compensation of Brown & Lowe 2007,
doi:10.1007/s11263-006-0002-3, widened by f). Without shading f comes out as nothing.
"""

from dataclasses import dataclass

import numpy as np

from lucid_relic.colour import _view_kernels
from lucid_relic.colour.photographs import Photographs
from lucid_relic.types import TriangleMesh

SAMPLES = 6000  # places whose light is compared: gains are then known to 1 %
DARKEST, BRIGHTEST = 0.01, 0.95  # linear light between which a pixel tells its exposure
MIN_VIEWS = 3  # that must see a place: two cannot say which of them is off
ROUNDS = 4  # of the robust fit; the fourth changes nothing any more
LEAST_TRUST = 0.02  # below which a look tells nothing
MISFIT = 0.12  # natural logarithm at which a sample counts for half: glare and shadow
PRIOR_GAIN, PRIOR_SHADE = 5.0, 20.0  # in samples


@dataclass(frozen=True)
class Light:
    """gain (k, 3) of every photograph and shade (3, 5) per channel, as natural logarithms."""

    gain: np.ndarray
    shade: np.ndarray


def even_light(mesh: TriangleMesh, normals: np.ndarray, photos: Photographs, tolerance: float) -> Light:
    """Gains and shading of the photographs, estimated at a seeded sample of the vertices."""
    chosen = np.random.default_rng(3).permutation(len(mesh.vertices))[:SAMPLES]
    points, facing = mesh.vertices[chosen], normals[chosen]
    n, k = len(points), photos.count
    weight = np.zeros((k, n), np.float32)
    colour = np.zeros((k, n, 3), np.float32)
    direction = np.zeros((k, n, 2), np.float32)
    _view_kernels.observe(points, facing, *photos.arrays, tolerance, weight, colour, direction)
    usable = (weight > 0) & (colour > DARKEST).all(axis=2) & (colour < BRIGHTEST).all(axis=2)
    usable &= usable.sum(axis=0) >= MIN_VIEWS
    gain, shade = np.zeros((k, 3)), np.zeros((3, 5))
    if usable.any():
        x, y = direction[..., 0].astype(np.float64), direction[..., 1].astype(np.float64)
        terms = np.stack([x, y, x * x, x * y, y * y], axis=2)
        # Slanted looks count little in the blend, so they count little here.
        trusted = usable * np.maximum(1 - x * x - y * y, LEAST_TRUST)
        for c in range(3):
            log = np.log(np.where(usable, colour[..., c], 1.0).astype(np.float64))
            gain[:, c], shade[c] = _solved(log, trusted, terms)
    return Light(gain, shade)


def _solved(log: np.ndarray, trusted: np.ndarray, terms: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Gains (k,) and shading (5,) of one channel; log and trusted are (k, n), terms (k, n, 5)."""
    k = len(log)
    answer = np.zeros(k + 5)
    w = trusted
    prior = np.concatenate([np.full(k, PRIOR_GAIN), np.full(5, PRIOR_SHADE)])
    for _ in range(ROUNDS):
        total = np.maximum(w.sum(axis=0), 1e-9)
        centred = log - (w * log).sum(axis=0) / total
        phi = terms - (w[..., None] * terms).sum(axis=0) / total[:, None]
        # One gain a photograph: its column, less its share of every place's mean.
        share = w / total
        normal = np.zeros((k + 5, k + 5))
        normal[:k, :k] = np.diag(w.sum(axis=1)) - w @ share.T
        normal[:k, k:] = np.einsum("kn,knt->kt", w, phi)
        normal[k:, :k] = normal[:k, k:].T
        normal[k:, k:] = np.einsum("kn,kns,knt->st", w, phi, phi)
        right = np.concatenate([(w * centred).sum(axis=1), np.einsum("kn,knt,kn->t", w, phi, centred)])
        answer = np.linalg.solve(normal + np.diag(prior), right)
        off = centred - phi @ answer[k:] - (answer[:k, None] - (w * answer[:k, None]).sum(axis=0) / total)
        w = trusted / (1.0 + (off / MISFIT) ** 2)
    return answer[:k] - answer[:k].mean(), answer[k:]
