"""When an instrument should be checked again: its checks grew old, or fits of its passes get worse."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

# Common practice, without a source: lens and axis once a month, colour at every change of light and at least weekly.
DUE_DAYS = {"board": 30, "axis": 30, "card": 7, "piece": 30}
NAMES = {
    "board": "Board check", "axis": "Axis check", "card": "Colour card", "piece": "Reference piece", "sheet": "White sheet",
}  # fmt: skip
NEWEST, BEFORE = 3, 4  # passes compared with as many or more before them
WORSE = 1.4  # times as far off as before


@dataclass(frozen=True)
class Reminder:
    """kind of check that is due, and a sentence."""

    kind: str
    words: str


def reminders(
    kinds: Sequence[str], checks: Mapping[str, tuple[float, bool]], fits_mm: Sequence[float]
) -> list[Reminder]:
    """What is due: checks maps kinds to (days since the last one, whether it was good); fits oldest first, in mm."""
    out = []
    for kind in (k for k in kinds if k in DUE_DAYS):  # a white sheet is taken when the light changed, by no calendar
        if kind not in checks:
            out.append(Reminder(kind, f"{NAMES[kind]}: never done."))
        elif not checks[kind][1]:
            out.append(Reminder(kind, f"{NAMES[kind]}: the last one was not good."))
        elif checks[kind][0] > DUE_DAYS[kind]:
            out.append(Reminder(kind, f"{NAMES[kind]}: {checks[kind][0]:.0f} days old; {DUE_DAYS[kind]} are enough."))
    grown = growth(fits_mm)
    if grown > WORSE:
        out.append(Reminder("piece", f"Frames of the newest passes fit {grown:.1f} times worse than before: is it me or the instrument?"))  # fmt: skip
    return out


def growth(fits_mm: Sequence[float]) -> float:
    """How many times worse the newest passes fit than those before them; 1 while that cannot be told."""
    if len(fits_mm) < NEWEST + BEFORE:
        return 1.0
    return float(np.median(fits_mm[-NEWEST:]) / max(np.median(fits_mm[:-NEWEST]), 1e-9))
