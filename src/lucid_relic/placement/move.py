"""Moving and scaling an object as a whole: its passes, surfaces, takes, points, and whatever was noted at places of it."""

from dataclasses import replace
from typing import Any

import numpy as np

from lucid_relic.geometry.rigid import transform_points
from lucid_relic.types import ScanState

PLACE_KEYS = ("place", "at")  # of what is noted, each a place (mm) of the object
PLACES_KEY = "places"


def moved(state: ScanState, motion: np.ndarray, factor: float = 1.0) -> ScanState:
    """The state with everything multiplied by a factor about the origin, then moved by a rigid motion (4, 4).

    The field that the surface was made from is dropped: its voxels stand square to the old axes.
    """
    S = motion @ np.diag([factor, factor, factor, 1.0])
    passes = []
    for scan in state.passes:
        scaled = scan.scaled(factor)
        passes.append(replace(scaled, T_object_pass=motion @ scaled.T_object_pass))
    points = state.points
    if points is not None:
        points = replace(points, points=points.points * np.float32(factor)).transformed(motion)
    return replace(
        state,
        passes=tuple(passes),
        mesh=state.mesh and state.mesh.transformed(S),
        points=points,
        volume=None,
        takes=tuple(take.moved(S) for take in state.takes),
        notes={name: _moved_note(value, S) for name, value in state.notes.items()},
    )


def _moved_note(value: Any, S: np.ndarray) -> Any:
    """A note with its places moved, however deep they lie in it."""
    if isinstance(value, list):
        return [_moved_note(one, S) for one in value]
    if not isinstance(value, dict):
        return value
    out: dict[str, Any] = {}
    for key, one in value.items():
        if key in PLACE_KEYS and one is not None:
            out[key] = _moved_places([one], S)[0]
        elif key == PLACES_KEY:
            out[key] = _moved_places(one, S)
        else:
            out[key] = _moved_note(one, S)
    return out


def _moved_places(places: list[list[float]], S: np.ndarray) -> list[list[float]]:
    if not places:
        return []
    return [list(map(float, p)) for p in transform_points(S, np.array(places, np.float64))]
