"""Which of two motions is better, and whether that can be trusted, from the patches that each wins over the other."""

import numpy as np

from lucid_relic.alignment.evidence import Evidence
from lucid_relic.alignment.fit_settings import FitSettings

COMPARABLE = 0.7  # of the other's known patches: with fewer the two motions lay different places on each other


def likeness(wins: int, losses: int) -> float:
    """How nearly as well the loser fits (0-1): patches it wins for one that it loses, both at least two."""
    return min((losses + 2) / (wins + 2), 1.0)


def ahead(one: Evidence, other: Evidence) -> bool:
    """Whether a motion is the better one of two, by however little."""
    wins, losses = one.against(other)
    return wins > losses if comparable(one, other) else one.worth > other.worth


def beats(one: Evidence, other: Evidence, settings: FitSettings) -> bool:
    """Whether a motion is better than another by more than noise and chance explain.

    A lead in a few patches counts only where the other motion is grossly off: sides that see a place from the same
    direction err alike there, so that a turn which lays them on each other leads in places seen flatly. Of motions that
    lay different places on each other what both know lies at rims, so the lead must be greater. Where the other is
    grossly off in enough patches, these alone may decide: at torn edges a motion loses some patches by a little.
    """
    wins, losses = one.against(other)
    gross = one.grossly(other)
    least = settings.least_lead if comparable(one, other) else settings.least_lead_unlike
    plainly_off = gross[0] - gross[1] >= settings.least_gross
    broad = wins - losses >= least * min(one.known, other.known)
    by_all = (broad or plainly_off) and wins - losses >= settings.least_wins
    return (by_all and _clear(wins, losses, settings.win_widths, settings)) or (
        plainly_off and _clear(*gross, settings.gross_widths, settings)
    )


def comparable(one: Evidence, other: Evidence) -> bool:
    """Whether two motions lay about as much on the other side."""
    few, many = sorted((one.known, other.known))
    return few > COMPARABLE * many


def _clear(wins: int, losses: int, widths: float, settings: FitSettings) -> bool:
    """Whether some wins are more than some losses by more than chance, in standard deviations of it."""
    return bool(wins - losses > widths * np.sqrt(wins + losses)) and likeness(wins, losses) < settings.max_rival
