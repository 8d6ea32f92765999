"""Which of several fits is right, when the shape allows them all, by what is painted on the surface."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from lucid_relic.alignment.coarse import same_place
from lucid_relic.alignment.icp import IcpResult, Painted, icp
from lucid_relic.types import PointCloud

PLAIN = 0.075  # natural logarithm: a surface whose paint spreads less than this tells nothing
LEAST_LIKENESS = 0.35  # correlation of the paint that a right fit reaches
UNLIKE = 0.2  # with less of it the two are painted differently: right fits of painted things have 0.38 and more
DISTINCT = 0.6  # of what the next fit lacks to perfect likeness: the right one lacks less


@dataclass(frozen=True)
class ColourVerdict:
    """The fit that colour picks, and what it lacks to perfect likeness (0-1) as a share of what the next one lacks."""

    fit: IcpResult
    rival: float


def told_apart_by_colour(
    painted: Painted, moving: PointCloud, motions: Sequence[np.ndarray], fine_mm: float, near_mm: float
) -> ColourVerdict | None:
    """Refine every motion by shape and colour and pick the best; None when colour does not tell them apart."""
    fits = [icp(painted.target, moving, T, 4 * fine_mm, 20, fine_mm, painted) for T in motions]
    scores = [painted.likeness(moving, fit.T_fixed_moving, 1.5 * fine_mm) for fit in fits]
    best = int(np.argmax([likeness for likeness, _ in scores]))
    likeness, spread = scores[best]
    chosen, centre = fits[best].T_fixed_moving, moving.points.mean(axis=0)
    others = [
        other
        for fit, (other, _) in zip(fits, scores, strict=True)
        if not same_place(fit.T_fixed_moving, chosen, centre, near_mm)
    ]
    rival = (1 - likeness) / max(1 - max(others, default=0.0), 1e-6)
    if spread < PLAIN or likeness < LEAST_LIKENESS or rival > DISTINCT:
        return None
    return ColourVerdict(fits[best], rival)


def painted_differently(painted: Painted, moving: PointCloud, motion: np.ndarray, fine_mm: float) -> bool:
    """Whether the paint of the two sides differs where they lie on each other; never where it tells nothing."""
    likeness, spread = painted.likeness(moving, motion, 1.5 * fine_mm)
    return spread > PLAIN and likeness < UNLIKE
