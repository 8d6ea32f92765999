"""By markers: place passes that saw the same dots."""

from dataclasses import dataclass, replace
from typing import TypedDict

from lucid_relic.alignment.place_by_markers import place_by_markers
from lucid_relic.errors import StepNotPossible, quoted
from lucid_relic.geometry.pass_points import pass_points
from lucid_relic.geometry.spacing import pixel_spacing
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.progress import Progress, part_of
from lucid_relic.types import ScanState

POINT_SPACINGS = 1.2  # of the points that may speak against a place, in pixel spacings


@dataclass(frozen=True, kw_only=True)
class ByMarkersParameters(Parameters):
    again: bool = param(False, "Place all passes anew, also those that are placed already")


class TriedMarkers(TypedDict):
    """One pair of passes: markers in common, how well they agree (mm), and why they do not place it, if so."""

    fixed: str
    moving: str
    accepted: bool
    markers: int
    rms_mm: float
    reason: str


class ByMarkersReport(TypedDict):
    """Every pair that was tried, and which passes are placed now."""

    fits: list[TriedMarkers]
    placed: list[str]
    not_placed: list[str]


def _headline(report: Report) -> str:
    accepted = [f for f in report["fits"] if f["accepted"]]
    return ", ".join(f"{f['markers']} markers" for f in accepted) or "none placed"


@operation(
    "by_markers",
    title="By markers",
    stage="align",
    key="Alt+K",
    weight=2,
    needs=(Need.PASSES,),
    parameters=ByMarkersParameters,
    headline=_headline,
)
def by_markers(state: ScanState, params: ByMarkersParameters, progress: Progress) -> tuple[ScanState, ByMarkersReport]:
    """Place passes on each other by the marker dots that their photographs show in common."""
    passes = state.passes
    if params.again:
        passes = tuple(replace(p, placed=False) for p in passes)
    if len(passes) < 2 or all(p.placed for p in passes):
        raise StepNotPossible("Every pass is placed already: there is nothing to place by markers.")
    clouds = []
    for n, scan in enumerate(passes):
        part = part_of(progress, 0.4 * n / len(passes), 0.4 * (n + 1) / len(passes))
        clouds.append(pass_points(scan, POINT_SPACINGS * pixel_spacing(scan), progress=part))
    placed, tried = place_by_markers(passes, clouds, part_of(progress, 0.4, 1.0))
    if not any(not t.refused for t in tried):
        said = "; ".join(
            f"{quoted(passes[t.moving].title)} on {quoted(passes[t.fixed].title)}: {t.refused}" for t in tried
        )
        raise StepNotPossible(f"No pass could be placed by markers. {said}.")
    fits: list[TriedMarkers] = [
        {
            "fixed": passes[t.fixed].title,
            "moving": passes[t.moving].title,
            "accepted": not t.refused,
            "markers": t.dots,
            "rms_mm": t.rms_mm,
            "reason": t.refused,
        }
        for t in tried
    ]
    return replace(state, passes=placed), {
        "fits": fits,
        "placed": [p.title for p in placed if p.placed],
        "not_placed": [p.title for p in placed if not p.placed],
    }
