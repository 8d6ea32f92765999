"""All that a closer look finds, each kind by itself: what one of them cannot say keeps no other from being told."""

from collections.abc import Callable, Sequence
from typing import Any

from lucid_relic.errors import LucidRelicError
from lucid_relic.findings.frames import drop_outs, exposures
from lucid_relic.findings.points import fuzz, loose_points
from lucid_relic.findings.seen import thin_and_never
from lucid_relic.findings.surface import crossings, seams, thin_walls
from lucid_relic.progress import Progress
from lucid_relic.types import Instrument, ScanState

Found = list[dict[str, Any]]


def look_closer(
    state: ScanState, sheets: Sequence[Instrument], summary: dict[str, Any], progress: Progress
) -> list[dict[str, Any]]:
    """Findings of a state beside those that its summary tells, in the order of the work.

    sheets are what took the passes, one each. Raises `Cancelled` when it is to stop.
    """
    used = state.without_off()
    looks: list[tuple[str, Callable[[], Found]]] = [
        ("exposure", lambda: exposures(used)),
        ("drop-out", lambda: drop_outs(used, [s for s, p in zip(sheets, state.passes, strict=True) if not p.off])),
        ("coverage", lambda: thin_and_never(used, sheets)),
        ("loose pieces", lambda: loose_points(used)),
        ("fuzz", lambda: fuzz(used)),
        ("crossings", lambda: crossings(used)),
        ("walls", lambda: thin_walls(used, summary)),
        ("seams", lambda: seams(used)),
    ]
    found: Found = []
    for number, (name, look) in enumerate(looks):
        progress(number / len(looks), f"Looking closer: {name}")
        try:
            found += look()
        except LucidRelicError:
            continue  # what a state lacks for a look is told by its own finding
    return found
