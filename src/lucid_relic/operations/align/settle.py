"""Settle: joint refinement of all frames of all placed passes, then of the passes of points among them."""

from dataclasses import dataclass, replace
from typing import TypedDict

import numpy as np

from lucid_relic.alignment.ghosts import find_ghosts
from lucid_relic.alignment.joint import read_views
from lucid_relic.alignment.keyframes import keyframes
from lucid_relic.alignment.settle import settle as settle_passes
from lucid_relic.alignment.settle_clouds import settle_clouds
from lucid_relic.inspection.summary import still_in
from lucid_relic.operations.align.find_fit import BY_COLOUR
from lucid_relic.operations.ghosts_told import GhostTold, noted, told
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.operations.words import mm
from lucid_relic.progress import Progress, part_of
from lucid_relic.types import ScanState


@dataclass(frozen=True, kw_only=True)
class SettleParameters(Parameters):
    drop_bad: bool = param(
        True, "Leave out frames that fit three times worse than the others, or lie loose where others see the same"
    )
    held_by: str = param(
        "auto",
        "What holds the frames: shape, or colour too. Auto takes colour where only colour told the fit",
        choices=("auto", "shape", "colour"),
    )


PassResiduals = TypedDict(
    "PassResiduals", {"pass": str, "frames": np.ndarray, "before_mm": np.ndarray, "after_mm": np.ndarray}
)
LeftOut = TypedDict("LeftOut", {"pass": str, "frame": int})


SettledCloud = TypedDict("SettledCloud", {"pass": str, "before_mm": float, "after_mm": float})


class SettleReport(TypedDict):
    """How many frames were settled, their residual before and after (mm), all together and each, and those left out.

    ghosts are frames that lie beside the others all the same.

    clouds holds the residual of each pass of points against the others; without frames rms is over those.
    """

    frames: int
    by_colour: bool
    rms_before_mm: float
    rms_mm: float
    left_out: list[LeftOut]
    residuals: list[PassResiduals]
    ghosts: list[GhostTold]
    clouds: list[SettledCloud]


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
    """Refine all frames of all placed passes together, and how the passes of points lie on them."""
    index = [n for n, p in enumerate(state.passes) if p.placed and p.cloud is None]
    if not index:
        return _only_clouds(state, progress)
    has_clouds = len(index) < len(state.used_passes())
    placed = tuple(state.passes[n] for n in index)
    coloured = params.held_by == "colour" or (params.held_by == "auto" and bool(state.notes.get(BY_COLOUR)))
    part = part_of(progress, 0, 0.8 if has_clouds else 1.0)
    views = read_views(placed, part_of(part, 0.0, 0.35), coloured=coloured)
    result = settle_passes(placed, part_of(part, 0.35, 0.9), drop_bad=params.drop_bad, coloured=coloured, views=views)
    everywhere = tuple(replace(p, frame_in=b.frame_in) for p, b in zip(result.passes, placed, strict=True))
    # Frames that have moved may be thinned to others: what was read of them serves only where they are the same.
    same = all(np.array_equal(keyframes(a), keyframes(b)) for a, b in zip(placed, everywhere, strict=True))
    ghosts = told(result.passes, find_ghosts(everywhere, part_of(part, 0.9, 1.0), views=views if same else None))
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
    clouds: list[SettledCloud] = []
    if has_clouds:
        state, clouds = _clouds_settled(state, part_of(progress, 0.8, 1.0))
    state = noted(state, ghosts)
    return state, {
        "ghosts": [g for g in ghosts if still_in(state, g)],
        "frames": sum(int(p.frame_in.sum()) for p in result.passes),
        "by_colour": coloured,
        "rms_before_mm": result.rms_before_mm,
        "rms_mm": result.rms_after_mm,
        "left_out": [{"pass": title, "frame": i} for title, i in result.dropped],
        "residuals": residuals,
        "clouds": clouds,
    }


def _clouds_settled(state: ScanState, progress: Progress) -> tuple[ScanState, list[SettledCloud]]:
    index = [n for n, p in enumerate(state.passes) if p.placed]
    result = settle_clouds(state.used_passes(), progress)
    for n, scan in zip(index, result.passes, strict=True):
        state = state.with_pass(n, scan)
    return state, [
        {"pass": scan.title, "before_mm": before, "after_mm": after}
        for scan, before, after in zip(result.passes, result.before_mm, result.after_mm, strict=True)
        if scan.cloud is not None
    ]


def _only_clouds(state: ScanState, progress: Progress) -> tuple[ScanState, SettleReport]:
    state, clouds = _clouds_settled(state, progress)
    before = float(np.sqrt(np.mean([c["before_mm"] ** 2 for c in clouds])))
    after = float(np.sqrt(np.mean([c["after_mm"] ** 2 for c in clouds])))
    return state, {
        "frames": 0, "by_colour": False, "rms_before_mm": before, "rms_mm": after, "left_out": [], "residuals": [],
        "ghosts": [], "clouds": clouds,
    }  # fmt: skip
