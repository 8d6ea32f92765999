"""What is said of every frame of a live pass: held, weak or lost, and why."""

from dataclasses import dataclass

import numpy as np

HELD, WEAK, LOST = "held", "weak", "lost"
# Why a frame is lost or weak.
TOO_FAST, OUT_OF_SLOT, NO_GRIP, DARK, LEFT, SLIPPED, ALIKE, FEW_DOTS, TAKEN_OUT = (
    "too fast", "out of the slot", "no grip", "dark", "left the object", "slipped", "looks alike", "few markers",
    "taken out",
)  # fmt: skip
REASONS = {
    TOO_FAST: "It moved too fast: hold still near a place that was captured.",
    OUT_OF_SLOT: "Nothing lies in the slot: keep the distance.",
    NO_GRIP: "Its shape holds too little: keep more of the object in view.",
    DARK: "It sees nothing: the lens is covered, or it is too dark.",
    LEFT: "It left the object: go back to a place that was captured.",
    SLIPPED: "It slipped along a shape that looks alike: the colours disagree.",
    FEW_DOTS: "Too few markers that are known: keep six of them in view.",
    TAKEN_OUT: "Somebody took it out.",
    ALIKE: "It looks alike from several sides: show a side that is like no other.",
}


@dataclass(frozen=True)
class Fit:
    """A frame laid onto the model at a pose: share of its sample with a partner (0-1), residual (mm), share looked
    through (0-1), correlation of the fine light (NaN where too little is known of it)."""

    pose: np.ndarray
    share: float
    residual_mm: float
    through: float = 0.0
    light: float = np.nan


@dataclass(frozen=True)
class Followed:
    """What became of a frame: its state, why if it is not held, its pose camera → pass (None when lost), and its fit.

    found tells that it was lost before, caught that it had slipped along its shape and the light told where to. speed is how far the surface moved in the picture since the frame before, in
    shares of what can be followed, dots how many markers hold it.
    """

    frame: int
    state: str
    reason: str = ""
    pose: np.ndarray | None = None
    fit: Fit | None = None
    found: bool = False
    caught: bool = False
    speed: float = 0.0
    dots: int = 0

    @property
    def placed(self) -> bool:
        return self.pose is not None


class Usual:
    """How well the frames of a pass fit as a rule, by the last few hundred."""

    LAST, RECENT = 300, 8

    def __init__(self) -> None:
        self._shares: list[float] = []
        self._residuals: list[float] = []
        self._through: list[float] = []
        self._lights: list[float] = []

    def learn(self, fit: Fit) -> None:
        """Count a fit among them."""
        for values, value in (
            (self._shares, fit.share), (self._residuals, fit.residual_mm), (self._through, fit.through), (self._lights, fit.light),
        ):  # fmt: skip
            if np.isfinite(value):
                values.append(value)
                del values[: -self.LAST]

    @property
    def count(self) -> int:
        return len(self._shares)

    @property
    def share(self) -> float:
        return float(np.median(self._shares))

    @property
    def residual_mm(self) -> float:
        return float(np.median(self._residuals))

    @property
    def through(self) -> float:
        return float(np.median(self._through))

    @property
    def light(self) -> float:
        """Of the last few frames, since one side of an object shows more than another; NaN while nothing is known of it."""
        return float(np.median(self._lights[-self.RECENT :])) if self._lights else np.nan
