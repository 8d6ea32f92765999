"""A surface as it is handed over: with its colour adjusted, and with what renderers shall know of it."""

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from lucid_relic.inspection.summary import ADJUST, ROUGHNESS, USUAL_ROUGHNESS
from lucid_relic.light.adjust import Adjustment, adjusted
from lucid_relic.types import TriangleMesh


def delivered(mesh: TriangleMesh, notes: Mapping[str, Any]) -> TriangleMesh:
    """A state's mesh with what its notes say of it put in: the same shape, its colours as they are shown."""
    told = adjusted(mesh, Adjustment.from_json(notes.get(ADJUST)))
    return replace(told, roughness=float(notes.get(ROUGHNESS, USUAL_ROUGHNESS)))
