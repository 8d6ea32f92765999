"""Close holes that one chooses, on meshes of any origin."""

from dataclasses import dataclass, replace
from typing import TypedDict

import numpy as np

from lucid_relic.errors import ParameterError, StepNotPossible
from lucid_relic.mending.bridges import bridged
from lucid_relic.mending.rims import FLAT, Rim, close_rims, find_rims
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.progress import Progress
from lucid_relic.types import ScanState

TOLD = 200  # holes of a report, the longest


@dataclass(frozen=True, kw_only=True)
class PatchHolesParameters(Parameters):
    how: str = param("curved", "Go on as the surface around bends, or span it flat", choices=("curved", "flat"))
    under_mm: float = param(0.0, "Only holes smaller across; 0 takes all", unit="mm", low=0, high=10_000)
    bridges: tuple[tuple[float, float, float], ...] = param(
        (), "Strips laid across first, each from one place at a rim to another", kind="places"
    )
    leave: tuple[tuple[float, float, float], ...] = param(
        (), "The holes nearest to these places stay open", kind="places"
    )


class HoleTold(TypedDict):
    """A hole: its rim and its size across (mm), its area (mm²), whether its rim is flat, a place, and whether it was closed."""

    length_mm: float
    size_mm: float
    area_mm2: float
    flat: bool
    at: list[float]
    closed: bool


class PatchHolesReport(TypedDict):
    """How many were closed, how many left, how many could only be spanned flat, how many bridges were laid, and the holes
    as they were between them, the longest first."""

    holes_closed: int
    holes_left: int
    spanned_flat: int
    bridges: int
    holes: list[HoleTold]


def _headline(report: Report) -> str:
    return f"closed {report['holes_closed']}, left {report['holes_left']}"


@operation(
    "patch_holes",
    title="Close chosen holes",
    stage="mend",
    key="Alt+0",
    weight=4,
    needs=(Need.MESH,),
    parameters=PatchHolesParameters,
    headline=_headline,
)
def patch_holes(
    state: ScanState, params: PatchHolesParameters, progress: Progress
) -> tuple[ScanState, PatchHolesReport]:
    """Close holes of the mesh as the surface around them bends, also of meshes that came in; those one names stay open."""
    if len(params.bridges) % 2:
        raise ParameterError("Every bridge needs two places: where it begins and where it ends.")
    spanned = bridged(state.mesh, list(zip(params.bridges[::2], params.bridges[1::2], strict=True)))
    rims = find_rims(spanned)
    if not rims:
        raise StepNotPossible("The mesh has no hole: there is nothing to close.")
    wanted = _wanted(rims, params)
    if not wanted.any():
        raise StepNotPossible(
            f"Each of its {len(rims)} holes is to stay open. Take a larger size, or leave fewer of them."
        )
    chosen = [rim for rim, on in zip(rims, wanted, strict=True) if on]
    mesh, flat = close_rims(spanned, chosen, params.how == "flat", progress)
    holes: list[HoleTold] = [
        {
            "length_mm": round(rim.length_mm, 3),
            "size_mm": round(rim.size_mm, 3),
            "area_mm2": round(rim.area_mm2, 3),
            "flat": rim.bend < FLAT,
            "at": [round(float(v), 3) for v in rim.place],
            "closed": bool(on),
        }
        for rim, on in zip(rims, wanted, strict=True)
    ]
    return replace(state, mesh=mesh), {
        "holes_closed": len(chosen),
        "holes_left": len(rims) - len(chosen),
        "spanned_flat": flat,
        "bridges": len(params.bridges) // 2,
        "holes": holes[:TOLD],
    }


def _wanted(rims: list[Rim], params: PatchHolesParameters) -> np.ndarray:
    """(k,) bool: which holes are closed."""
    wanted = np.array([not params.under_mm or rim.size_mm < params.under_mm for rim in rims])
    middles = np.stack([rim.place for rim in rims])
    for place in params.leave:
        wanted[int(np.argmin(np.linalg.norm(middles - np.array(place), axis=1)))] = False
    return wanted
