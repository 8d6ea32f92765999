"""Stand up: upright, centred, foot on the floor, front forward."""

from dataclasses import dataclass, replace
from typing import Any, TypedDict

import numpy as np

from lucid_relic.geometry.rigid import inverse, transform_points
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.preview import Preview, PreviewLayer
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.placement.move import moved
from lucid_relic.placement.stand_up import Stance, standing_motion
from lucid_relic.progress import Progress
from lucid_relic.types import ScanState

CENTRES = ("middle", "foot")
FLOOR_SHARE = 1.1  # of the longest side, as wide as the floor is drawn


@dataclass(frozen=True, kw_only=True)
class StandUpParameters(Parameters):
    by: str = param(
        "auto",
        "What tells which way is up: the plate, a flat foot, three places, or the principal axes",
        choices=("auto", "plate", "plane", "places", "axes"),
    )
    plane: tuple[float, float, float, float] | None = param(
        None, "The plane it stands on, its normal up; the flattest foot when left out", kind="plane"
    )
    places: tuple[tuple[float, float, float], ...] | None = param(
        None, "Three places that shall lie level", kind="places"
    )
    places_of: str = param("foot", "What the places are of: its foot, or a level top", choices=("foot", "top"))
    front: tuple[float, float, float] | None = param(
        None, "A place that looks forward; as the first frame saw it when left out", kind="place"
    )
    centre: Any = param("middle", "What stands over the origin", kind="choice_or_place", choices=CENTRES)
    turn_deg: float = param(0.0, "Turn about the upright afterwards", unit="°", low=-360, high=360)


class StandUpReport(TypedDict):
    """What told which way is up, how far it was tilted (°) from upright, and the size as it stands (mm)."""

    up_from: str
    tilted_deg: float
    size_mm: list[float]


def _headline(report: Report) -> str:
    return " × ".join(f"{v:.1f}" for v in report["size_mm"])


def _motion(state: ScanState, params: StandUpParameters) -> tuple[np.ndarray, str]:
    by = params.by
    if by == "auto" and (params.places or params.plane):
        by = "places" if params.places else "plane"
    stance = Stance(by, params.plane, params.places, params.places_of, params.front, params.centre, params.turn_deg)  # type: ignore[arg-type]
    return standing_motion(state, stance)


def _tilted_deg(motion: np.ndarray) -> float:
    return round(float(np.degrees(np.arccos(np.clip(motion[2, 2], -1, 1)))), 3)


def _preview(state: ScanState, params: StandUpParameters) -> Preview:
    """The floor that the object would stand on, as a square around its foot where it is now."""
    motion, found = _motion(state, params)
    stood = transform_points(motion, state.mesh.vertices.astype(np.float64))
    size, middle = np.ptp(stood, axis=0), (stood.min(axis=0) + stood.max(axis=0))[:2] / 2
    half = FLOOR_SHARE * float(size.max()) / 2
    square = np.array([[-half, -half], [half, -half], [half, half], [-half, half]]) + middle
    corners = transform_points(inverse(motion), np.column_stack([square, np.zeros(4)])).astype(np.float32)
    plane = [*motion[2, :3].tolist(), float(-motion[2, 3])]
    figures = {"up_from": found, "tilted_deg": _tilted_deg(motion), "size_mm": size.round(3).tolist()}
    return Preview(figures, (PreviewLayer("plane", {"pass": "", "plane": plane}, {"corners": corners}),))


@operation(
    "stand_up",
    title="Stand up",
    stage="set",
    key="H",
    weight=1,
    needs=(Need.MESH,),
    parameters=StandUpParameters,
    headline=_headline,
    preview=_preview,
    preview_early=False,
    preview_surface=True,
)
def stand_up(state: ScanState, params: StandUpParameters, progress: Progress) -> tuple[ScanState, StandUpReport]:
    """Put the object upright, centred, its foot on the floor, its front forward."""
    progress(0.1, "Finding which way is up")
    motion, found = _motion(state, params)
    changed = replace(moved(state, motion), upright=True)
    low, high = changed.mesh.vertices.min(axis=0), changed.mesh.vertices.max(axis=0)
    return changed, {
        "up_from": found,
        "tilted_deg": _tilted_deg(motion),
        "size_mm": (high - low).round(3).tolist(),
    }
