"""True scale: what a caliper reads becomes what the object measures."""

from dataclasses import dataclass, replace
from typing import TypedDict

import numpy as np

from lucid_relic.errors import StepNotPossible
from lucid_relic.inspection.summary import LENGTHS, SCALE
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.preview import Preview
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.placement.measures import measured, scaled_lengths
from lucid_relic.placement.move import moved
from lucid_relic.progress import Progress
from lucid_relic.types import ScanState

PLAUSIBLE = 0.02  # of a length: an instrument that is off by more has to be checked, not corrected
ACROSS = ("places", "planes")


@dataclass(frozen=True, kw_only=True)
class SetScaleParameters(Parameters):
    factor: float = param(1.0, "All lengths times this, where no true length is given", low=0.0001, high=10_000)
    places: tuple[tuple[float, float, float], ...] | None = param(
        None, "Two places whose distance is known", kind="places"
    )
    across: str = param("places", "Between the places themselves, or the planes around them", choices=ACROSS)
    true_mm: float = param(0.0, "What the caliper reads between them", unit="mm", low=0, high=100_000)


class SetScaleReport(TypedDict):
    """All lengths were multiplied by factor; what was measured before and after between the places (mm, None without),
    and whether the difference is one that an instrument may have."""

    factor: float
    before_mm: float | None
    after_mm: float | None
    plausible: bool


def _headline(report: Report) -> str:
    if report["before_mm"] is None:
        return f"× {report['factor']:.5g}"
    return f"{report['before_mm']:.2f} → {report['after_mm']:.2f} mm, {(report['factor'] - 1) * 100:+.2f} %"


def _between(state: ScanState, params: SetScaleParameters) -> float:
    """What is measured between the places (mm)."""
    kind = "planes" if params.across == "planes" else "length"
    return measured(state.mesh, kind, params.places).value


def _preview(state: ScanState, params: SetScaleParameters) -> Preview:
    """What is measured between the places now, before anything is scaled."""
    if not params.places:
        raise StepNotPossible("Pick two places to see what is measured between them.")
    return Preview({"before_mm": _between(state, params)})


def _factor(state: ScanState, params: SetScaleParameters) -> tuple[float, float | None]:
    """What all lengths are multiplied by, and what is measured between the places (mm)."""
    if not params.places:
        return params.factor, None
    before = _between(state, params)
    if before <= 0 or params.true_mm <= 0:
        missing = "The two places are one." if before <= 0 else "Say what the caliper reads between the two places."
        raise StepNotPossible(missing)
    return params.true_mm / before, before


@operation(
    "set_scale",
    title="True scale",
    stage="set",
    key="Shift+K",
    weight=1,
    needs=(Need.MESH,),
    parameters=SetScaleParameters,
    headline=_headline,
    preview=_preview,
    preview_early=False,
    preview_surface=True,
)
def set_scale(state: ScanState, params: SetScaleParameters, progress: Progress) -> tuple[ScanState, SetScaleReport]:
    """Make lengths what a caliper reads: all passes, surfaces and takes are scaled together."""
    factor, before = _factor(state, params)
    if factor == 1.0 and before is None:
        raise StepNotPossible("Pick two places and say what the caliper reads between them, or give a factor.")
    progress(0.1, "Scaling all passes and surfaces")
    changed = moved(state, np.eye(4), factor)
    told = {"factor": changed.notes.get(SCALE, {}).get("factor", 1.0) * factor, "by_caliper": before is not None}
    lengths = scaled_lengths(changed.notes.get(LENGTHS, []), factor)
    changed = replace(changed, notes={**changed.notes, SCALE: told, LENGTHS: lengths})
    return changed, {
        "factor": factor,
        "before_mm": before,
        "after_mm": None if before is None else before * factor,
        "plausible": abs(factor - 1) <= PLAUSIBLE,
    }
