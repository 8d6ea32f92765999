"""Paths of tables: turns of 8 to 36 stops, and presets of two axes by size and complexity."""

import numpy as np

from lucid_relic.errors import ParameterError, quoted
from lucid_relic.types import Stop

FEWEST, MOST = 3, 72
USUAL = (8, 36)  # stops of a turn: 45° to 10° (common practice, no source)
# Rings of a two-axis path: tilt towards the head (degrees) and stops of the turn there. Tens of views, 40 to 50 for
# small parts rich in detail (common practice, no source).
RINGS: dict[str, tuple[tuple[float, int], ...]] = {
    "small and plain": ((-20.0, 6), (15.0, 8), (55.0, 4)),
    "small and rich": ((-46.0, 10), (-10.0, 12), (22.0, 12), (48.0, 8), (64.0, 3)),
    "large and plain": ((-15.0, 8), (15.0, 10), (50.0, 6)),
    "large and rich": ((-46.0, 10), (-18.0, 14), (12.0, 14), (38.0, 10), (62.0, 4)),
}


def turn_path(stops: int, start_deg: float = 0.0) -> tuple[Stop, ...]:
    """Evenly spaced stops of one turn; raises `ParameterError` for fewer than three or more than 72."""
    if stops < 1:
        raise ParameterError("A turn needs stops; with none nothing is captured. 12 are a good middle.")
    if not FEWEST <= stops <= MOST:
        raise ParameterError(f"A turn has {FEWEST} to {MOST} stops, not {stops}; usual are {USUAL[0]} to {USUAL[1]}.")
    return tuple(Stop(turn_deg=float(t)) for t in start_deg + np.arange(stops) * 360.0 / stops)


def preset_path(name: str) -> tuple[Stop, ...]:
    """A path of two axes by its name: ring by ring, every second ring turned by half a step."""
    if name not in RINGS:
        raise ParameterError(f"There is no path {quoted(name)}; there are {'; '.join(RINGS)}.")
    stops = []
    for k, (tilt, count) in enumerate(RINGS[name]):
        turns = (np.arange(count) + 0.5 * (k % 2)) * 360.0 / count
        stops += [Stop(turn_deg=float(t), tilt_deg=tilt) for t in turns]
    return tuple(stops)
