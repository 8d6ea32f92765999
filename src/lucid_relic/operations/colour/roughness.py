"""Roughness: how a renderer shall let the surface shine."""

from dataclasses import dataclass, replace
from typing import TypedDict

from lucid_relic.inspection.summary import ROUGHNESS
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.registry import Need, operation
from lucid_relic.progress import Progress
from lucid_relic.types import ScanState


@dataclass(frozen=True, kw_only=True)
class RoughnessParameters(Parameters):
    roughness: float = param(0.8, "From polished (0) to matt (1); a glazed object has less", low=0, high=1)


class RoughnessReport(TypedDict):
    """The roughness that renderers are told."""

    roughness: float


@operation(
    "roughness",
    title="Roughness",
    stage="colour",
    key="Shift+Q",
    weight=1,
    needs=(Need.MESH,),
    parameters=RoughnessParameters,
    headline=lambda report: f"{report['roughness']:.2f} for renderers",
)
def roughness(state: ScanState, params: RoughnessParameters, progress: Progress) -> tuple[ScanState, RoughnessReport]:
    """Say how much the surface shines in renderers; it is no metal."""
    return replace(state, notes={**state.notes, ROUGHNESS: params.roughness}), {"roughness": params.roughness}
