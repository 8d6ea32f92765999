"""Accuracy: how sure the surface is, told by the frames themselves and by fusing the object twice from half of them."""

from dataclasses import replace
from typing import Any, TypedDict

import numpy as np

from lucid_relic.errors import StepNotPossible
from lucid_relic.fusion.repeatability import repeatability
from lucid_relic.geometry.spacing import pixel_spacing
from lucid_relic.inspection.summary import ACCURACY, digest_of_mesh
from lucid_relic.inspection.uncertainty import uncertainty
from lucid_relic.operations.parameters import Parameters
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.operations.words import mm, percent
from lucid_relic.progress import Progress, part_of
from lucid_relic.types import ScanState

BINS = 24
MEAN_OF_NORMAL = float(np.sqrt(2 / np.pi))  # of the size of a normal variable of variance one
WIDEST = 98.0  # per cent of places that the bars and the colours reach over


class AccuracyReport(TypedDict):
    """Lengths in mm. Standard uncertainty (k = 1) of half and of 95 % of the measured places; how far the surface lies off the
    truth in the mean, if errors are normal; what two scans would differ by for chance alone; the share of the area that
    frames measured; what averaging over pixels leaves of the frames' variance; shares of places by uncertainty from 0 to
    range_mm."""

    half_mm: float
    p95_mm: float
    expected_mm: float
    repeatability_mm: float
    measured_share: float
    averaged: float
    range_mm: float
    bins: list[float]


def _headline(report: Report) -> str:
    return f"± {mm(report['half_mm'], 3)}, {percent(0.95, 0)} of places ± {mm(report['p95_mm'], 3)}"


@operation(
    "accuracy",
    title="Accuracy",
    stage="set",
    key="Alt+E",
    weight=20,
    needs=(Need.MESH, Need.PLACED),
    parameters=Parameters,
    headline=_headline,
)
def accuracy(state: ScanState, params: Parameters, progress: Progress) -> tuple[ScanState, AccuracyReport]:
    """Tell how sure each place of the surface is: by how far frames lie apart there, and by two fusions of half of them."""
    measured = state.for_surface()
    seen = [p for p in measured.used_passes() if p.frame_in.any()]
    if not seen:
        raise StepNotPossible("Its passes came as points or meshes: no frames tell how sure they are.")
    told = uncertainty(measured, progress=part_of(progress, 0, 0.3))
    voxel = state.volume.voxel_mm if state.volume is not None else min(pixel_spacing(p) for p in seen)
    halves = repeatability(measured, voxel, told.places, part_of(progress, 0.3, 1.0))
    averaged = told.averaged(halves.apart_mm)
    sigma = told.sigma_mm(averaged)
    known = sigma[~np.isnan(sigma)]
    wide = float(np.percentile(known, WIDEST))
    counts, _ = np.histogram(known.clip(0, wide), bins=BINS, range=(0, wide))
    report: AccuracyReport = {
        "half_mm": float(np.median(known)),
        "p95_mm": float(np.percentile(known, 95)),
        "expected_mm": float(known.mean()) * MEAN_OF_NORMAL,
        "repeatability_mm": halves.rms_mm,
        "measured_share": len(known) / len(sigma),
        "averaged": averaged,
        "range_mm": wide,
        "bins": (counts / len(known)).tolist(),
    }
    kept: dict[str, Any] = {"of": digest_of_mesh(state.mesh), **report}
    return replace(state, notes={**state.notes, ACCURACY: kept}), report
