"""Lengths: named measures that stay with the object."""

from dataclasses import asdict, dataclass, replace
from typing import Any, TypedDict

from lucid_relic.errors import StepNotPossible, quoted
from lucid_relic.inspection.summary import LENGTHS
from lucid_relic.operations.chosen import marked_of
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.placement.measures import KINDS, measured
from lucid_relic.progress import Progress
from lucid_relic.types import Marks, ScanState

DIAMETERS = ("circle", "sphere", "cylinder")


@dataclass(frozen=True, kw_only=True)
class MeasureParameters(Parameters):
    of: str = param("length", "What is measured", choices=tuple(KINDS))
    places: tuple[tuple[float, float, float], ...] = param(
        (), "Two places of a length or of two planes, three of an angle (at the second), three or more of a circle",
        kind="places",
    )  # fmt: skip
    marks: Marks | None = param(None, "The part of the surface that is a sphere or a cylinder", kind="marks")
    name: str = param("", "What it is called; numbered when left out")
    caliper_mm: float = param(0.0, "What a caliper reads there; 0 when nobody measured", unit="mm", low=0, high=100_000)


class MeasureReport(TypedDict):
    """The measure as it is kept: name, of, value (mm or °), sd and rms_mm (None where places tell it), caliper_mm."""

    name: str
    kind: str
    value: float
    sd: float | None
    rms_mm: float | None
    caliper_mm: float | None
    count: int


def _headline(report: Report) -> str:
    value = f"{report['value']:.2f}°" if report["kind"] == "angle" else f"{report['value']:.2f} mm"
    sign = "⌀ " if report["kind"] in DIAMETERS else ""
    return f"{report['name']}: {sign}{value}"


@operation(
    "measure",
    title="Lengths",
    stage="set",
    key="Shift+M",
    weight=1,
    needs=(Need.MESH,),
    parameters=MeasureParameters,
    headline=_headline,
)
def measure(state: ScanState, params: MeasureParameters, progress: Progress) -> tuple[ScanState, MeasureReport]:
    """Measure a length, an angle or a diameter and keep it with the object."""
    part = None if params.marks is None else marked_of(state.mesh, params.marks)
    found = measured(state.mesh, params.of, params.places, part)
    kept: list[dict[str, Any]] = list(state.notes.get(LENGTHS, []))
    report: MeasureReport = {
        "name": params.name.strip() or _own_name(kept),
        "kind": params.of,
        "value": found.value,
        "sd": found.sd,
        "rms_mm": found.rms_mm,
        "caliper_mm": params.caliper_mm or None,
        "count": found.count,
    }
    entry = {**report, "places": [list(p) for p in asdict(found)["places"]]}
    others = [one for one in kept if one["name"] != report["name"]]
    return replace(state, notes={**state.notes, LENGTHS: [*others, entry]}), report


def _own_name(kept: list[dict[str, Any]]) -> str:
    names = {one["name"] for one in kept}
    return next(name for n in range(1, len(kept) + 2) if (name := f"L{n}") not in names)


@dataclass(frozen=True, kw_only=True)
class TakeOffLengthParameters(Parameters):
    name: str = param("", "Which measure")


class TakeOffLengthReport(TypedDict):
    """The measure that was taken off, and how many are left."""

    name: str
    left: int


@operation(
    "take_off_length",
    title="Take a length off",
    stage="set",
    key="Shift+O",
    weight=1,
    needs=(Need.MESH,),
    parameters=TakeOffLengthParameters,
    headline=lambda report: f"{report['name']} taken off",
)
def take_off_length(
    state: ScanState, params: TakeOffLengthParameters, progress: Progress
) -> tuple[ScanState, TakeOffLengthReport]:
    """Take a measure off the object."""
    kept = list(state.notes.get(LENGTHS, []))
    left = [one for one in kept if one["name"] != params.name]
    if len(left) == len(kept):
        names = ", ".join(one["name"] for one in kept) or "none"
        raise StepNotPossible(f"There is no length {quoted(params.name)}; there are: {names}.")
    return replace(state, notes={**state.notes, LENGTHS: left}), {"name": params.name, "left": len(left)}
