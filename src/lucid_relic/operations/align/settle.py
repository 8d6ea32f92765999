"""Settle: joint refinement of all frames of all placed passes."""

from dataclasses import dataclass
from typing import TypedDict

import numpy as np

from lucid_relic.alignment.settle import settle as settle_passes
from lucid_relic.operations.align.find_fit import BY_COLOUR
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.operations.words import mm
from lucid_relic.progress import Progress
from lucid_relic.types import ScanState


@dataclass(frozen=True, kw_only=True)
class SettleParameters(Parameters):
    drop_bad: bool = param(True, "Leave out frames that fit three times worse than the others")
    held_by: str = param(
        "auto",
        "What holds the frames: shape, or colour too. Auto takes colour where only colour told the fit",
        choices=("auto", "shape", "colour"),
    )


PassResiduals = TypedDict(
    "PassResiduals", {"pass": str, "frames": np.ndarray, "before_mm": np.ndarray, "after_mm": np.ndarray}
)
LeftOut = TypedDict("LeftOut", {"pass": str, "frame": int})


class SettleReport(TypedDict):
    """How many frames were settled, their residual before and after (mm), all together and each, and those left out."""

    frames: int
    by_colour: bool
    rms_before_mm: float
    rms_mm: float
    left_out: list[LeftOut]
    residuals: list[PassResiduals]


def _headline(report: Report) -> str:
    return f"{mm(report['rms_before_mm'], 3)} → {mm(report['rms_mm'], 3)}"


@operation(
    "settle",
    title="Settle",
    stage="align",
    key="T",
    weight=7,
    needs=(Need.PLACED,),
    parameters=SettleParameters,
    headline=_headline,
)
def settle(state: ScanState, params: SettleParameters, progress: Progress) -> tuple[ScanState, SettleReport]:
    """Refine all frames of all placed passes together."""
    index = [n for n, p in enumerate(state.passes) if p.placed]
    placed = tuple(state.passes[n] for n in index)
    coloured = params.held_by == "colour" or (params.held_by == "auto" and bool(state.notes.get(BY_COLOUR)))
    result = settle_passes(placed, progress, drop_bad=params.drop_bad, coloured=coloured)
    for n, scan in zip(index, result.passes, strict=True):
        state = state.with_pass(n, scan)
    residuals: list[PassResiduals] = [
        {
            "pass": before.title,
            "frames": before.frames_used(),
            "before_mm": was,
            "after_mm": after.fit_mm[before.frames_used()],
        }
        for before, was, after in zip(placed, result.frames_before_mm, result.passes, strict=True)
    ]
    return state, {
        "frames": sum(int(p.frame_in.sum()) for p in result.passes),
        "by_colour": coloured,
        "rms_before_mm": result.rms_before_mm,
        "rms_mm": result.rms_after_mm,
        "left_out": [{"pass": title, "frame": i} for title, i in result.dropped],
        "residuals": residuals,
    }
