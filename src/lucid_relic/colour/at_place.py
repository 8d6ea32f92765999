"""The colour that a mesh shows at a place of its surface."""

import numpy as np

from lucid_relic.geometry.bvh import TriangleTree
from lucid_relic.light.srgb import to_linear, to_srgb
from lucid_relic.types import TriangleMesh

ACROSS = 0.006  # of the object: how far around a place its colour is taken from
SPOTS = 64  # that are asked around it
SEED = 2


def colour_at(mesh: TriangleMesh, place: np.ndarray) -> np.ndarray:
    """(3,) float sRGB (0-255): the median of what is shown around a place (3,) mm, so that no speck decides it."""
    reach = ACROSS * float(np.linalg.norm(np.ptp(mesh.vertices, axis=0)))
    around = place + np.random.default_rng(SEED).normal(0, reach / 2, (SPOTS, 3))
    _, face, share = TriangleTree(mesh).foot(np.vstack([place, around]))
    if mesh.texture is not None:
        uv = np.einsum("nk,nkj->nj", share, mesh.texture.uv[face])
        shown = mesh.texture.at(uv)
    else:
        shown = to_srgb(np.einsum("nk,nkc->nc", share, to_linear(mesh.colours)[mesh.faces[face]]))
    middle: np.ndarray = np.median(shown.astype(np.float64), axis=0)
    return middle
