"""Faults that can be provoked in a stand-in, as they come with real instruments."""

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np

from lucid_relic.capture.device import PlannedDevice, Shot
from lucid_relic.errors import DeviceFault
from lucid_relic.light.srgb import LINEAR, to_srgb

CABLE, TABLE, LAMP = "cable", "table", "lamp"
SENTENCES = {
    CABLE: "The {title} does not answer: put its cable in. What was taken is kept; it goes on by itself.",
    TABLE: "The table of the {title} does not turn: take away what blocks it. What was taken is kept; it goes on by itself.",
}
COLD = 0.72  # share of its light that a lamp gives when it is cold
WARM_FRAMES = 30.0  # after which about two thirds of the rest has come
COLD_TINT = np.array([1.04, 1.0, 0.9])  # a cold lamp is warmer in colour
WARM_ENOUGH = 0.97


class Troubled:
    """A `PlannedDevice` that does what another does, but for the fault that is provoked just now.

    fault is asked before every frame. A cold lamp gives less light, and tells how much of it; all frames say so.
    """

    def __init__(self, device: PlannedDevice, title: str, fault: Callable[[], str]) -> None:
        self._device = device
        self._title = title
        self._fault = fault
        self._lit = 0
        self.camera = device.camera

    def manifest(self) -> dict[str, Any]:
        """As of the device."""
        return self._device.manifest()

    def frame_count(self) -> int:
        return self._device.frame_count()

    def shoot(self, index: int) -> Shot:
        """One frame; raises `DeviceFault` when it cannot be taken just now."""
        need_answer(self._fault(), self._title)
        shot = self._device.shoot(index)
        if self._fault() != LAMP:
            return shot
        lamp = warmth(self._lit)
        self._lit += 1
        return replace(
            shot, colour=to_srgb(LINEAR[shot.colour] * light_of(lamp)), fields={**shot.fields, "lamp": round(lamp, 3)}
        )


def need_answer(fault: str, title: str, turning: bool = True) -> None:
    """Raise `DeviceFault` in a sentence when an instrument with a fault cannot take a picture, turning its table or not."""
    if fault == CABLE or (turning and fault == TABLE):
        raise DeviceFault(SENTENCES[fault].format(title=title.lower()))


def light_of(lamp: float) -> np.ndarray:
    """(3,) light of a lamp that gives a share (0-1) of it, against that of a warm one."""
    return lamp * COLD_TINT ** (1 - lamp)


def warmth(frames: int) -> float:
    """Share of its light (0-1) that a lamp gives after some frames."""
    return float(1 - (1 - COLD) * np.exp(-frames / WARM_FRAMES))
