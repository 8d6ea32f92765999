"""What find fit answers: a fit, or a refusal that carries no motion and so cannot be used by accident."""

from dataclasses import dataclass, field
from typing import Literal

import numpy as np

from lucid_relic.types import PassState, PointCloud


@dataclass(frozen=True)
class Side:
    """One side of a fit: its points with normals and, when known, the pass whose frames saw them."""

    cloud: PointCloud
    scan: PassState | None = None


@dataclass(frozen=True, kw_only=True)
class FitFigures:
    """What speaks for and against a fit.

    overlap is the share (0-1) of the smaller side that lies on the other; rms_mm the residual of that part;
    free_space_violation the share of observed points that the other side's frames looked through; rival how nearly as
    well the next distinct fit does (1 = just as well), by the share of common surface that is off;
    constraint_strength the share of the information that the weakest motion has; by_colour says that only its colour
    told the fit from others, colours_differ that the shapes agree and only the colours speak against it.
    """

    overlap: float = 0.0
    rms_mm: float = float("inf")
    free_space_violation: float = 0.0
    rival: float = 0.0
    constraint_strength: float = 0.0
    contradicted: float = 0.0
    misfit: float = 0.0
    by_colour: bool = False
    colours_differ: bool = False


@dataclass(frozen=True, kw_only=True)
class Fit(FitFigures):
    """A fit that is accepted: its motion moving → fixed, and in words why it can be trusted."""

    T_fixed_moving: np.ndarray
    reason: str
    accepted: Literal[True] = field(default=True, init=False)


@dataclass(frozen=True, kw_only=True)
class RefusedFit(FitFigures):
    """No fit: why, with the figures of the best one that was found."""

    reason: str
    accepted: Literal[False] = field(default=False, init=False)


FitResult = Fit | RefusedFit
