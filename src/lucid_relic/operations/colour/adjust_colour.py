"""Adjust colour: numbers that stay apart from the laid texture, for as long as one likes."""

from dataclasses import dataclass, replace
from typing import Any, TypedDict

import numpy as np

from lucid_relic.colour.at_place import colour_at
from lucid_relic.errors import StepNotPossible
from lucid_relic.inspection.summary import ADJUST
from lucid_relic.light.adjust import Adjustment
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.progress import Progress
from lucid_relic.types import ScanState


def _share(help: str) -> Any:
    return param(0.0, help, low=-1, high=1)


@dataclass(frozen=True, kw_only=True)
class AdjustColourParameters(Parameters):
    white: Any = param(None, "A place that should be grey, or the colour it has as laid", kind="white")
    light: float = _share("Darker or lighter, by up to two stops")
    contrast: float = _share("Flatter or stronger about middle grey")
    highlights: float = _share("Bright parts down or up")
    shadows: float = _share("Dark parts down or up")
    warmth: float = _share("Bluer or warmer")
    tint: float = _share("Greener or more purple")
    saturation: float = _share("Greyer or more colourful")
    gamma: float = param(1.0, "Middle tones darker (under 1) or lighter", low=0.2, high=5)


class AdjustColourReport(TypedDict):
    """The numbers as they are kept, white as an sRGB colour or None, and the factors of red, green and blue."""

    adjust: dict[str, Any]
    gains: list[float]


def _headline(report: Report) -> str:
    kept = report["adjust"]
    changed = [name for name, value in kept.items() if name != "white" and value != (1.0 if name == "gamma" else 0.0)]
    if kept["white"] is not None:
        changed.insert(0, "white")
    return ", ".join(changed) or "as laid"


@operation(
    "adjust_colour",
    title="Adjust",
    stage="colour",
    key="J",
    weight=1,
    needs=(Need.MESH,),
    parameters=AdjustColourParameters,
    headline=_headline,
)
def adjust_colour(
    state: ScanState, params: AdjustColourParameters, progress: Progress
) -> tuple[ScanState, AdjustColourReport]:
    """Set white, light, contrast and so on; the laid colour itself stays as it is."""
    mesh = state.mesh
    if mesh.texture is None and mesh.colours is None:
        raise StepNotPossible("There is no colour to adjust yet. Lay colour first.")
    values = params.as_dict()
    if isinstance(values["white"], str):
        values["white"] = [float(v) for v in bytes.fromhex(values["white"][1:])]
    elif values["white"] is not None:
        values["white"] = [round(float(v), 2) for v in colour_at(mesh, np.array(values["white"]))]
    adjustment = Adjustment.from_json(values)
    kept = adjustment.as_json()
    return replace(state, notes={**state.notes, ADJUST: kept}), {
        "adjust": kept,
        "gains": [round(float(g), 5) for g in adjustment.gains()],
    }
