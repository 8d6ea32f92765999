"""Grip: how firmly a surface that is seen holds the six motions against point-to-plane fits.

Gelfand, Ikemoto, Rusinkiewicz & Levoy 2003, "Geometrically stable sampling for the ICP algorithm",
doi:10.1109/IM.2003.1240258: the covariance C = Σ w [p×n; n][p×n; n]ᵀ of the constraints, with points scaled to the
mean radius 1 so that turns and slides compare. Motions along which C hardly grows slide along the surface.
"""

from dataclasses import dataclass

import numpy as np

WEAK = 0.2  # grip below which a motion may slip: the surface's slope against it is 11 % (rms) of an even one's
HELD_EVENLY = 1 / 3  # of the constraints fall to each direction of a surface that faces all sides alike
DECOUPLED = 0.35  # of a weak motion is turning: less is a slide
UPRIGHT_COS = 0.9  # an axis within 25° of the upright is called so


@dataclass(frozen=True)
class Slip:
    """A motion that nothing holds: a turn about an axis or a slide along it.

    direction (3,) unit; through (3,) mm a place on the axis of a turn; grip 0-1.
    """

    kind: str
    direction: np.ndarray
    through: np.ndarray
    grip: float


@dataclass(frozen=True)
class Grip:
    """slide and turn (3,) 0-1: how firmly motions along and about the rows of axes (3, 3) are held; what may slip."""

    slide: np.ndarray
    turn: np.ndarray
    axes: np.ndarray
    slips: tuple[Slip, ...]

    def words(self, up: np.ndarray | None = None) -> list[str]:
        """One word or two for each motion that may slip."""
        return [_words(slip, up) for slip in self.slips]


def grip(points: np.ndarray, normals: np.ndarray, weights: np.ndarray | None = None, noise_rad: float = 0.0) -> Grip:
    """The grip of a surface: points (n, 3) mm, unit normals (n, 3), weights (n,); noise_rad is that of the normals.

    Raises `ValueError` for fewer than six points: they hold nothing.
    """
    if len(points) < 6:
        raise ValueError("grip needs at least six points")
    w = np.ones(len(points)) if weights is None else np.asarray(weights, np.float64)
    w = w / w.sum()
    n = np.asarray(normals, np.float64)
    centre = w @ points
    arm = points - centre
    radius = float(w @ np.linalg.norm(arm, axis=1))
    moment = np.cross(arm / radius, n)
    K = np.concatenate([moment, n], axis=1)
    C = K.T @ (K * w[:, None]) - noise_rad**2 * np.diag(np.repeat([_spread(arm, w, radius), 1.0], 3))
    slides = _positive(C[3:, 3:])
    # A turn may take whatever slide suits it: what is left is the Schur complement.
    turns = _positive(C[:3, :3] - C[:3, 3:] @ np.linalg.pinv(slides, rcond=1e-6, hermitian=True) @ C[3:, :3])
    _, axes = np.linalg.eigh(slides + turns)
    axes = axes.T * np.sign(np.linalg.det(axes))
    along = lambda M: np.array([_firmness(float(a @ M @ a)) for a in axes])  # noqa: E731
    return Grip(along(slides), along(turns), axes, _slips(C, centre, radius))


def _spread(arm: np.ndarray, w: np.ndarray, radius: float) -> float:
    """Mean square lever of the normals' noise about an axis, in radii."""
    return float(w @ (arm**2).sum(axis=1)) / radius**2 * 2 / 3


def _positive(M: np.ndarray) -> np.ndarray:
    """A symmetric matrix without what noise made negative."""
    values, vectors = np.linalg.eigh((M + M.T) / 2)
    return (vectors * np.maximum(values, 0)) @ vectors.T


def _firmness(value: float) -> float:
    """0-1: the rms slope of the surface against a motion, relative to that of an even surface."""
    return float(np.sqrt(min(max(value, 0.0) / HELD_EVENLY, 1.0)))


def _slips(C: np.ndarray, centre: np.ndarray, radius: float) -> tuple[Slip, ...]:
    """The weak motions, told apart into turns and slides.

    Weak eigenvectors of equal size mix turns and slides as they like. So of the space that they span, the part
    without any turning gives the slides, and the rest the turns, each with the slide taken off that moves its axis.
    """
    values, vectors = np.linalg.eigh((C + C.T) / 2)
    weak = np.array([_firmness(v) < WEAK for v in values])
    if not weak.any():
        return ()
    W, firm = vectors[:, weak], [_firmness(v) for v in values[weak]]
    _, size, way = np.linalg.svd(W[:3])
    spins = size > DECOUPLED
    modes = W @ way.T  # ordered: the turning ones first
    slips = []
    for k in range(modes.shape[1]):
        turning = k < len(spins) and spins[k]
        part = modes[:3, k] if turning else modes[3:, k]
        direction = part / np.linalg.norm(part)
        through = centre
        if turning:
            through = centre + radius * np.cross(modes[:3, k], modes[3:, k]) / (modes[:3, k] @ modes[:3, k])
        held = float(np.sqrt(max(modes[:, k] @ C @ modes[:, k], 0) / HELD_EVENLY))
        slips.append(Slip("turn" if turning else "slide", direction, through, min(held, max(firm) + 1e-9)))
    return tuple(slips)


def _words(slip: Slip, up: np.ndarray | None) -> str:
    if up is None:
        return slip.kind
    cos = abs(float(slip.direction @ up))
    if slip.kind == "turn":
        return "upright turn" if cos > UPRIGHT_COS else "tip" if cos < 1 - UPRIGHT_COS else "slanted turn"
    return "up and down" if cos > UPRIGHT_COS else "sideways" if cos < 1 - UPRIGHT_COS else "slanted slide"
