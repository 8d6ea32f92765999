"""Match points and Snap: a hand says roughly where a pass lies, the surfaces say it exactly."""

from dataclasses import dataclass, replace
from typing import NotRequired, TypedDict

import numpy as np

from lucid_relic.alignment.by_hand import (
    HandFit,
    believed_threads,
    left_threads,
    placed_by_hand,
    reach_of_threads,
    turns_about,
)
from lucid_relic.alignment.fit_result import Side
from lucid_relic.errors import ParameterError, StepNotPossible, quoted
from lucid_relic.geometry.pass_points import pass_points
from lucid_relic.geometry.points import extent_mm
from lucid_relic.geometry.rigid import difference, transform_points
from lucid_relic.geometry.spacing import pixel_spacing
from lucid_relic.operations.chosen import check_title
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.preview import Preview
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.operations.words import mm, percent
from lucid_relic.progress import Progress, part_of
from lucid_relic.types import PassState, ScanState
from lucid_relic.view.pass_view import pass_view

POINT_SPACINGS = 1.2  # of the points gathered for the fit, in pixel spacings
Pair = tuple[tuple[float, float, float], tuple[float, float, float]]
HELP_WHEN_WRONG = "Mend what you tied or dragged, or run it with “trust” to place it as it is."


@dataclass(frozen=True, kw_only=True)
class MatchPointsParameters(Parameters):
    pass_: str | None = param(None, "The pass to place; may be left out when one is not placed", kind="pass")
    pairs: tuple[Pair, ...] = param(
        (), "Threads: a place of the object, and the same spot in the pass’s own frame", kind="pairs"
    )
    refine: bool = param(True, "Let the surfaces say it exactly")
    trust: bool = param(False, "Place it even where the surfaces speak against it")


@dataclass(frozen=True, kw_only=True)
class SnapParameters(Parameters):
    pass_: str | None = param(None, "The pass to place; may be left out when one is not placed", kind="pass")
    at: tuple[tuple[float, ...], ...] | None = param(
        None, "Where it was let go, pass to object; where it is when left out", kind="matrix"
    )
    reach_mm: float = param(
        0.0, "How far from there it may snap; 0 takes a tenth of its size", unit="mm", low=0, high=200
    )
    trust: bool = param(False, "Place it even where the surfaces speak against it")


class Thread(TypedDict):
    """How far its ends lay apart as it was tied and lie now (mm), and whether it was believed."""

    picked_mm: float
    residual_mm: float
    used: bool


HandReport = TypedDict(
    "HandReport",
    {
        "pass": str,
        "overlap": float,
        "rms_mm": float,
        "turned_deg": float,
        "shifted_mm": float,
        "against": str,
        "threads": NotRequired[list[Thread]],
    },
)
"""Common share, residual, how far refining moved it from what the hand said, and what speaks against it, if anything."""


def _headline(report: Report) -> str:
    left = sum(not t["used"] for t in report.get("threads", []))
    tail = f", {left} left out" if left else ""
    return f"common {percent(report['overlap'], 0)}, {mm(report['rms_mm'], 3)}{tail}"


def _moving(state: ScanState, title: str | None) -> int:
    """Number of the pass that is to be placed; raises `ParameterError` when it is not said and not clear."""
    if title is not None:
        check_title(state, title)
        return next(n for n, p in enumerate(state.passes) if p.title == title)
    waiting = [n for n, p in enumerate(state.passes) if not p.placed]
    if len(waiting) == len(state.passes):
        waiting = waiting[1:]
    if len(waiting) != 1:
        raise ParameterError("Say which pass is to be placed: it is not the only one that could be.")
    return waiting[0]


@dataclass(frozen=True)
class _Table:
    """The state with at least one pass that holds still, the sides, and the points' spacing."""

    state: ScanState
    fixed: list[Side]
    moving: Side
    spacing_mm: float
    size_mm: float


def _table(state: ScanState, moving: int, progress: Progress) -> _Table:
    others = [n for n in range(len(state.passes)) if n != moving]
    if not others:
        raise StepNotPossible("There is only one pass. Capture or import another one first.")
    if not any(state.passes[n].placed for n in others):
        state = state.with_pass(others[0], replace(state.passes[others[0]], placed=True))
    still = [n for n in others if state.passes[n].placed]
    sides = []
    for k, n in enumerate([*still, moving]):
        scan = state.passes[n]
        part = part_of(progress, k / (len(still) + 1), (k + 1) / (len(still) + 1))
        cloud = pass_points(scan, POINT_SPACINGS * pixel_spacing(scan), progress=part)
        if not len(cloud):
            raise StepNotPossible(f"Nothing is kept of {quoted(scan.title)}.")
        if n != moving:
            # Free space is judged in the frame that the fixed side is in: the object's.
            cloud, scan = cloud.transformed(scan.T_object_pass), _as_object(scan)
        sides.append(Side(cloud, scan))
    spacing = POINT_SPACINGS * max(pixel_spacing(s.scan) for s in sides if s.scan is not None)
    return _Table(state, sides[:-1], sides[-1], spacing, extent_mm(sides[-1].cloud))


def _as_object(scan: PassState) -> PassState:
    """A pass whose own frame is the object's."""
    motion = scan.T_object_pass
    came = scan.cloud
    if came is not None:
        eye = None if came.scanner is None else transform_points(motion, came.scanner[None])[0]
        came = replace(came, cloud=came.cloud.transformed(motion), scanner=eye, surface=None)
    return replace(scan, frame_poses=motion @ scan.frame_poses, T_object_pass=np.eye(4), cloud=came)


def _preview(state: ScanState, params: MatchPointsParameters) -> Preview:
    """How far the ends of every thread lie apart when the believed ones are laid on each other; why not, when they cannot be."""
    n = _moving(state, params.pass_)
    fixed, moving = _ends(params)
    size = extent_mm(pass_view(state.passes[n]).cloud)
    try:
        believed = believed_threads(fixed, moving, size)
    except StepNotPossible as why:
        return Preview({"pass": state.passes[n].title, "threads": [], "missing": str(why)})
    threads = [
        {"picked_mm": float(apart), "used": bool(used)}
        for apart, used in zip(believed.residual_mm, believed.used, strict=True)
    ]
    motion = believed.T_fixed_moving.tolist()
    return Preview({"pass": state.passes[n].title, "threads": threads, "missing": "", "T_object_pass": motion})


def _ends(params: MatchPointsParameters) -> tuple[np.ndarray, np.ndarray]:
    """(n, 3) places of the object and (n, 3) places of the pass that threads tie."""
    ends = np.array(params.pairs, dtype=np.float64).reshape(-1, 2, 3)
    return ends[:, 0], ends[:, 1]


def _placed(state: ScanState, n: int, motion: np.ndarray) -> ScanState:
    return state.with_pass(n, replace(state.passes[n], T_object_pass=motion, placed=True))


def _report(title: str, start: np.ndarray, fit: HandFit) -> HandReport:
    turned, shifted = difference(start, fit.T_fixed_moving)
    return {
        "pass": title,
        "overlap": fit.overlap,
        "rms_mm": fit.rms_mm,
        "turned_deg": turned,
        "shifted_mm": shifted,
        "against": fit.against,
    }


@operation(
    "match_points",
    title="Match points",
    stage="align",
    key="Alt+Q",
    weight=3,
    needs=(Need.PASSES,),
    parameters=MatchPointsParameters,
    headline=_headline,
    preview=_preview,
)
def match_points(state: ScanState, params: MatchPointsParameters, progress: Progress) -> tuple[ScanState, HandReport]:
    """Place a pass by spots that are seen on it and on the others; threads that do not agree are left out."""
    n = _moving(state, params.pass_)
    title = state.passes[n].title
    table = _table(state, n, part_of(progress, 0.0, 0.5))
    fixed, moving = _ends(params)
    believed = believed_threads(fixed, moving, table.size_mm)
    start = believed.T_fixed_moving
    progress(0.5, "Laying the surfaces on each other")
    if params.refine:
        reach = reach_of_threads(believed, table.size_mm)
        fit = placed_by_hand(table.fixed, table.moving, [start], reach, table.spacing_mm)
        fit = replace(fit, against=fit.against or left_threads(believed, fit, fixed, moving, table.size_mm))
    else:
        fit = HandFit(start, 0.0, float(np.sqrt((believed.residual_mm[believed.used] ** 2).mean())), "")
    if fit.against and not params.trust:
        raise StepNotPossible(f"{quoted(title)} is not placed: {fit.against}. {HELP_WHEN_WRONG}")
    now = np.linalg.norm(transform_points(fit.T_fixed_moving, moving) - fixed, axis=1)
    threads = [
        Thread(picked_mm=float(before), residual_mm=float(after), used=bool(used))
        for before, after, used in zip(believed.residual_mm, now, believed.used, strict=True)
    ]
    return _placed(table.state, n, fit.T_fixed_moving), {**_report(title, start, fit), "threads": threads}


@operation(
    "snap",
    title="Snap",
    stage="align",
    key="Alt+V",
    weight=3,
    needs=(Need.PASSES,),
    parameters=SnapParameters,
    headline=_headline,
)
def snap(state: ScanState, params: SnapParameters, progress: Progress) -> tuple[ScanState, HandReport]:
    """Let a pass snap onto the others from where it was dragged to, or where it lies."""
    n = _moving(state, params.pass_)
    scan = state.passes[n]
    table = _table(state, n, part_of(progress, 0.0, 0.5))
    start = scan.T_object_pass if params.at is None else np.array(params.at, dtype=np.float64)
    progress(0.5, "Looking for where it snaps")
    reach = params.reach_mm or 0.1 * table.size_mm
    starts = turns_about(start, table.moving.cloud)
    fit = placed_by_hand(table.fixed, table.moving, starts, reach, table.spacing_mm)
    if fit.against and not params.trust:
        raise StepNotPossible(f"{quoted(scan.title)} does not snap here: {fit.against}. {HELP_WHEN_WRONG}")
    return _placed(table.state, n, fit.T_fixed_moving), _report(scan.title, start, fit)
