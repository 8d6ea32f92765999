"""Flat foot: cut the lowest bit off, so that the object stands on something flat."""

from dataclasses import dataclass, replace
from typing import TypedDict

import numpy as np

from lucid_relic.mending.flat_foot import cut_flat
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.progress import Progress
from lucid_relic.types import ScanState

Plane4 = tuple[float, float, float, float]


@dataclass(frozen=True, kw_only=True)
class FlatFootParameters(Parameters):
    cut_mm: float = param(0.5, "How much is cut off, up from the lowest place", unit="mm", low=0.01, high=1000)
    plane: Plane4 | None = param(None, "Cut along this plane instead; what is in front of it stays", kind="plane")


class FlatFootReport(TypedDict):
    """Area of the new foot (mm²), what was cut off (mm³), and triangles before and after."""

    foot_mm2: float
    cut_off_mm3: float
    triangles_before: int
    triangles: int


def _headline(report: Report) -> str:
    return f"stands on {report['foot_mm2'] / 100:.2f} cm²"


@operation(
    "flat_foot",
    title="Flat foot",
    stage="mend",
    key="Shift+F",
    weight=2,
    needs=(Need.MESH,),
    parameters=FlatFootParameters,
    headline=_headline,
)
def flat_foot(state: ScanState, params: FlatFootParameters, progress: Progress) -> tuple[ScanState, FlatFootReport]:
    """Cut off what lies below a plane and close the cut flat."""
    mesh = state.mesh
    progress(0.1, "Cutting")
    plane = params.plane or (0.0, 0.0, 1.0, float(mesh.vertices[:, 2].min()) + params.cut_mm)
    footed = cut_flat(mesh, np.array(plane))
    return replace(state, mesh=footed.mesh), {
        "foot_mm2": footed.foot_mm2,
        "cut_off_mm3": mesh.volume_mm3() - footed.mesh.volume_mm3(),
        "triangles_before": len(mesh.faces),
        "triangles": len(footed.mesh.faces),
    }
