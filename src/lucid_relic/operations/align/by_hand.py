"""Match points and Snap: a hand says roughly where a pass lies, the surfaces say it exactly."""

from dataclasses import dataclass, replace
from typing import Any, NotRequired, TypedDict

import numpy as np

from lucid_relic.alignment.by_hand import (
    LEAST_COMMON,
    HandFit,
    believed_threads,
    common_share,
    joined,
    left_threads,
    placed_by_hand,
    reach_of_threads,
    refined,
    sharpened,
    turns_about,
)
from lucid_relic.alignment.fit_result import Side
from lucid_relic.errors import ParameterError, StepNotPossible, quoted
from lucid_relic.geometry.pass_points import pass_points
from lucid_relic.geometry.points import extent_mm, thin
from lucid_relic.geometry.rigid import difference, inverse, transform_points
from lucid_relic.geometry.spacing import pixel_spacing
from lucid_relic.memo import remembered
from lucid_relic.operations.chosen import check_title
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.preview import Preview
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.operations.words import mm, percent
from lucid_relic.progress import Progress, part_of
from lucid_relic.types import PassState, PointCloud, ScanState
from lucid_relic.view.pass_view import pass_view

POINT_SPACINGS = 1.2  # of the points gathered for the fit, in pixel spacings
SHOWN_PARTS = 90  # of a pass's size that points lie apart while a hand still ties or drags
REACH_SHARE = 0.1  # of the size that a pass snaps over when nobody says how far
Pair = tuple[tuple[float, float, float], tuple[float, float, float]]
HELP_WHEN_WRONG = "Mend what you tied or dragged, or run it with “trust” to place it as it is."


@dataclass(frozen=True, kw_only=True)
class MatchPointsParameters(Parameters):
    pass_: str | None = param(None, "The pass to place; may be left out when one is not placed", kind="pass")
    pairs: tuple[Pair, ...] = param(
        (), "Threads: a place of the object, and the same spot in the pass’s own frame", kind="pairs"
    )
    sharpen: bool = param(True, "Bring each pick to the very spot by the shape around its other end")
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

    def joint(self) -> PointCloud:
        """The points of all that holds still."""
        return joined([side.cloud for side in self.fixed])


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


@dataclass(frozen=True)
class _Shown:
    """What is shown of the passes, thinned so that a fit follows the hand: what holds still in the object's frame, the
    pass that is placed in its own, how far their points lie apart and how large that pass is (mm)."""

    fixed: PointCloud
    moving: PointCloud
    spacing_mm: float
    size_mm: float


def _shown(state: ScanState, moving: int) -> _Shown:
    others = [n for n in range(len(state.passes)) if n != moving]
    still = [n for n in others if state.passes[n].placed] or others[:1]
    if not still:
        raise StepNotPossible("There is only one pass. Capture or import another one first.")
    size = extent_mm(pass_view(state.passes[moving]).cloud)
    spacing = max(size / SHOWN_PARTS, *(pass_view(state.passes[n]).spacing_mm for n in (*still, moving)))
    fixed = joined([_thinned(state.passes[n], spacing) for n in still])
    own = _thinned(state.passes[moving], spacing)
    return _Shown(fixed, own.transformed(inverse(state.passes[moving].T_object_pass)), spacing, size)


def _thinned(scan: PassState, spacing_mm: float) -> PointCloud:
    cloud = pass_view(scan).cloud
    bare = PointCloud(cloud.points, cloud.normals)
    return remembered(scan, ("by hand", spacing_mm), lambda: thin(bare, spacing_mm))


def _fit_shown(shown: _Shown, starts: list[np.ndarray], reach_mm: float) -> dict[str, Any]:
    """Where the surfaces as shown draw a pass, how much of it is common then, and how far that lies off."""
    fit = refined(shown.fixed, shown.moving, starts, reach_mm, shown.spacing_mm)
    common = common_share(shown.fixed, shown.moving, fit.T_fixed_moving, shown.spacing_mm)
    return {"T_object_pass": fit.T_fixed_moving.tolist(), "overlap": common, "rms_mm": fit.rms_mm}


def _preview(state: ScanState, params: MatchPointsParameters) -> Preview:
    """How far the ends of every thread lie apart when the believed ones are laid on each other, and where the pass would
    lie; why not, when they cannot be."""
    n = _moving(state, params.pass_)
    fixed, moving = _ends(params)
    told = {"pass": state.passes[n].title, "threads": [], "missing": ""}
    shown = _shown(state, n)
    try:
        believed = believed_threads(fixed, moving, shown.size_mm)
    except StepNotPossible as why:
        return Preview({**told, "missing": str(why)})
    threads = [
        {"picked_mm": float(apart), "used": bool(used)}
        for apart, used in zip(believed.residual_mm, believed.used, strict=True)
    ]
    start = believed.T_fixed_moving
    if params.sharpen:
        start = sharpened(shown.fixed, shown.moving, believed, (fixed, moving), shown.size_mm, shown.spacing_mm)
    fit = {"T_object_pass": start.tolist()}
    if params.refine:
        fit = _fit_shown(shown, [start], reach_of_threads(believed, shown.size_mm))
    return Preview({**told, "threads": threads, **fit})


def _snap_preview(state: ScanState, params: SnapParameters) -> Preview:
    """Where a pass would snap to from where it was let go, with what it has in common there and has now."""
    n = _moving(state, params.pass_)
    shown, start = _shown(state, n), _let_go(state, n, params)
    here = common_share(shown.fixed, shown.moving, start, shown.spacing_mm)
    starts = turns_about(start, shown.moving)
    fit = _fit_shown(shown, starts, params.reach_mm or REACH_SHARE * shown.size_mm)
    turned, shifted = _moved(start, np.array(fit["T_object_pass"]), shown.moving)
    facts = {"pass": state.passes[n].title, "here": here, "turned_deg": turned, "shifted_mm": shifted}
    return Preview({**facts, **fit, "common": fit["overlap"] >= LEAST_COMMON})


def _let_go(state: ScanState, n: int, params: SnapParameters) -> np.ndarray:
    """T_object_pass from where a pass is to snap."""
    return state.passes[n].T_object_pass if params.at is None else np.array(params.at, dtype=np.float64)


def _ends(params: MatchPointsParameters) -> tuple[np.ndarray, np.ndarray]:
    """(n, 3) places of the object and (n, 3) places of the pass that threads tie."""
    ends = np.array(params.pairs, dtype=np.float64).reshape(-1, 2, 3)
    return ends[:, 0], ends[:, 1]


def _placed(state: ScanState, n: int, motion: np.ndarray) -> ScanState:
    return state.with_pass(n, replace(state.passes[n], T_object_pass=motion, placed=True))


def _moved(start: np.ndarray, end: np.ndarray, cloud: PointCloud) -> tuple[float, float]:
    """Degrees that a pass turned between two ways to lie, and mm that the middle of its points moved."""
    middle = cloud.points.mean(axis=0, dtype=np.float64)[None]
    turned, _ = difference(start, end)
    return turned, float(np.linalg.norm(transform_points(end, middle) - transform_points(start, middle)))


def _report(title: str, start: np.ndarray, fit: HandFit, cloud: PointCloud) -> HandReport:
    turned, shifted = _moved(start, fit.T_fixed_moving, cloud)
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
    if params.sharpen:
        start = sharpened(table.joint(), table.moving.cloud, believed, (fixed, moving), table.size_mm, table.spacing_mm)
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
    return _placed(table.state, n, fit.T_fixed_moving), {
        **_report(title, start, fit, table.moving.cloud),
        "threads": threads,
    }


@operation(
    "snap",
    title="Snap",
    stage="align",
    key="Alt+V",
    weight=3,
    needs=(Need.PASSES,),
    parameters=SnapParameters,
    headline=_headline,
    preview=_snap_preview,
)
def snap(state: ScanState, params: SnapParameters, progress: Progress) -> tuple[ScanState, HandReport]:
    """Let a pass snap onto the others from where it was dragged to, or where it lies."""
    n = _moving(state, params.pass_)
    scan = state.passes[n]
    table = _table(state, n, part_of(progress, 0.0, 0.5))
    start = _let_go(state, n, params)
    progress(0.5, "Looking for where it snaps")
    reach = params.reach_mm or REACH_SHARE * table.size_mm
    starts = turns_about(start, table.moving.cloud)
    fit = placed_by_hand(table.fixed, table.moving, starts, reach, table.spacing_mm)
    if fit.against and not params.trust:
        raise StepNotPossible(f"{quoted(scan.title)} does not snap here: {fit.against}. {HELP_WHEN_WRONG}")
    return _placed(table.state, n, fit.T_fixed_moving), _report(scan.title, start, fit, table.moving.cloud)
