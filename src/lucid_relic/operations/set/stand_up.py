"""Stand up: upright, centred, foot on the floor."""

from dataclasses import dataclass, replace
from typing import TypedDict

import numpy as np

from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.placement.stand_up import standing_motion
from lucid_relic.progress import Progress
from lucid_relic.types import ScanState


@dataclass(frozen=True, kw_only=True)
class StandUpParameters(Parameters):
    turn_deg: float = param(0.0, "Turn about the upright afterwards", unit="°", low=-360, high=360)


class StandUpReport(TypedDict):
    """What told which way is up, and the size as it stands (mm)."""

    up_from: str
    size_mm: list[float]


def _headline(report: Report) -> str:
    return " × ".join(f"{v:.1f}" for v in report["size_mm"])


@operation(
    "stand_up",
    title="Stand up",
    stage="set",
    key="H",
    weight=1,
    needs=(Need.MESH,),
    parameters=StandUpParameters,
    headline=_headline,
)
def stand_up(state: ScanState, params: StandUpParameters, progress: Progress) -> tuple[ScanState, StandUpReport]:
    """Put the object upright, centred, its foot on the floor."""
    progress(0.1, "Finding which way is up")
    motion, by = standing_motion(state)
    a = np.radians(params.turn_deg)
    turn = np.eye(4)
    turn[:2, :2] = [[np.cos(a), -np.sin(a)], [np.sin(a), np.cos(a)]]
    motion = turn @ motion
    mesh = state.mesh.transformed(motion)
    passes = tuple(replace(p, T_object_pass=motion @ p.T_object_pass) for p in state.passes)
    low, high = mesh.vertices.min(axis=0), mesh.vertices.max(axis=0)
    points = state.points.transformed(motion) if state.points is not None else None
    changed = replace(state, mesh=mesh, points=points, passes=passes, volume=None, upright=True)
    return changed, {"up_from": by, "size_mm": (high - low).round(3).tolist()}
