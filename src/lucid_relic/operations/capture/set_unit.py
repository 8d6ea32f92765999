"""Set unit: what the numbers of a file mean, when it did not say so itself."""

from dataclasses import dataclass, replace
from typing import TypedDict

import numpy as np

from lucid_relic.errors import StepNotPossible
from lucid_relic.geometry.measured import size_of
from lucid_relic.operations.chosen import chosen_passes
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.progress import Progress
from lucid_relic.types import UNITS_MM, PassState, ScanState


@dataclass(frozen=True, kw_only=True)
class SetUnitParameters(Parameters):
    unit: str = param("mm", "What one of the file's numbers means", choices=tuple(UNITS_MM))
    passes: tuple[str, ...] | None = param(None, "Only these passes; all when left out", kind="passes")


PassInUnit = TypedDict("PassInUnit", {"pass": str, "unit_before": str, "unit": str, "size_mm": float})


class SetUnitReport(TypedDict):
    """Per pass the unit before and now, and its longest side now (mm)."""

    passes: list[PassInUnit]


def _headline(report: Report) -> str:
    sizes = [p["size_mm"] for p in report["passes"]]
    return f"{report['passes'][0]['unit']}: {max(sizes):.4g} mm"


@operation(
    "set_unit",
    title="Set unit",
    stage="capture",
    key="Alt+U",
    weight=1,
    needs=(Need.POINTS,),
    parameters=SetUnitParameters,
    headline=_headline,
)
def set_unit(state: ScanState, params: SetUnitParameters, progress: Progress) -> tuple[ScanState, SetUnitReport]:
    """Say what the numbers of files mean that came as points or meshes; they are measured anew in it."""
    chosen = [n for n in chosen_passes(state, params.passes) if state.passes[n].cloud is not None]
    if not chosen:
        raise StepNotPossible("These passes came as frames, whose unit their capture says.")
    frames = {state.passes[n].cloud.shared_frame for n in chosen} - {""}
    figures: list[PassInUnit] = []
    for n, scan in enumerate(state.passes):
        if n not in chosen and (scan.cloud is None or scan.cloud.shared_frame not in frames):
            continue
        before, changed = scan.cloud.unit, _in_unit(scan, params.unit, first=n == 0)
        state = state.with_pass(n, changed)
        size = size_of(changed.cloud.cloud.points)
        figures.append({"pass": scan.title, "unit_before": before, "unit": params.unit, "size_mm": round(size, 3)})
    return state, {"passes": figures}


def _in_unit(scan: PassState, unit: str, first: bool) -> PassState:
    """The pass in another unit; but for the first it has to be placed anew, since it lay where its size had put it."""
    cloud = scan.cloud.in_unit(unit, "said")
    factor = UNITS_MM[unit] / UNITS_MM[scan.cloud.unit]
    plate = None if scan.plate is None else np.append(scan.plate[:3], scan.plate[3] * factor)
    placed = scan.placed and (first or factor == 1.0)
    return replace(scan, cloud=cloud, plate=plate, noise_mm=scan.noise_mm * factor, placed=placed)
