"""How far a frame may move along what holds it least."""

import numpy as np
from scipy.linalg import eigh

from lucid_relic.geometry.rigid import shifts_of


def play_mm(hessian: np.ndarray, points: np.ndarray) -> float:
    """How far (mm, one standard deviation) the worst held motion of a frame moves its points (n, 3), in the mean square.

    hessian (6, 6) of a turn about the origin of the points and a shift, in 1/mm²; only its upper triangle counts.
    """
    moves = shifts_of(points.astype(np.float64))
    reach = np.einsum("nij,nik->jk", moves, moves) / len(points)
    reach += 1e-9 * np.trace(reach) / 6 * np.eye(6)
    least = eigh(hessian, reach, lower=False, eigvals_only=True, subset_by_index=[0, 0])[0]
    return float(1 / np.sqrt(max(least, 1e-12)))
