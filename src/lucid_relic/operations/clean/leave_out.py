"""Frames of a pass left out by number, and taken back."""

from dataclasses import dataclass, replace
from typing import TypedDict

import numpy as np

from lucid_relic.alignment.track import find_lost
from lucid_relic.errors import ParameterError, StepNotPossible, quoted
from lucid_relic.operations.chosen import check_title
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.progress import Progress
from lucid_relic.types import PassState, ScanState


@dataclass(frozen=True, kw_only=True)
class FramesParameters(Parameters):
    pass_: str | None = param(None, "The pass whose frames are meant; may be left out when there is one", kind="pass")
    frames: tuple[int, ...] = param((), "Frames from 0, alone or as ranges", kind="frames")


FramesReport = TypedDict(
    "FramesReport", {"pass": str, "changed": list[int], "frames_in": int, "frames": int, "still_lost": list[int]}
)
"""Which frames changed, how many of the pass are in now, and which could not be placed anywhere."""


def _headline(report: Report) -> str:
    return f"{report['frames_in']} of {report['frames']} frames in"


def _frames_of(state: ScanState, params: FramesParameters) -> tuple[int, PassState, np.ndarray]:
    """Number of the pass, the pass, and the frames that are meant; raises `ParameterError` for what it has not."""
    title = params.pass_
    if title is None:
        if len(state.passes) != 1:
            raise ParameterError("Say which pass the frames are of: there are several.")
        title = state.passes[0].title
    check_title(state, title)
    n = next(k for k, p in enumerate(state.passes) if p.title == title)
    scan, frames = state.passes[n], np.array(params.frames, int)
    if scan.cloud is not None:
        raise StepNotPossible(f"{quoted(title)} came as points: it has no frames.")
    if not len(frames):
        raise ParameterError("Name the frames that are meant, like 3 or 10-24.")
    if frames.max() >= scan.frame_count:
        raise ParameterError(f"{quoted(title)} has the frames 0 to {scan.frame_count - 1}, no frame {frames.max()}.")
    return n, scan, frames


def _report(scan: PassState, before: PassState, still_lost: list[int]) -> FramesReport:
    changed = np.flatnonzero(scan.frame_in != before.frame_in)
    return {
        "pass": scan.title,
        "changed": [int(i) for i in changed],
        "frames_in": int(scan.frame_in.sum()),
        "frames": scan.frame_count,
        "still_lost": still_lost,
    }


@operation(
    "leave_out",
    title="Leave frames out",
    stage="clean",
    key="Alt+L",
    weight=0.1,
    needs=(Need.PASSES,),
    parameters=FramesParameters,
    headline=_headline,
)
def leave_out(state: ScanState, params: FramesParameters, progress: Progress) -> tuple[ScanState, FramesReport]:
    """Leave frames of a pass out of everything that follows; they can be taken back."""
    n, scan, frames = _frames_of(state, params)
    inside = scan.frame_in.copy()
    inside[frames] = False
    if not inside.any():
        raise StepNotPossible(f"Without these no frame of {quoted(scan.title)} would be left.")
    after = replace(scan, frame_in=inside)
    return state.with_pass(n, after), _report(after, scan, [])


@operation(
    "take_back",
    title="Take frames back",
    stage="clean",
    key="Alt+T",
    weight=1,
    needs=(Need.PASSES,),
    parameters=FramesParameters,
    headline=_headline,
)
def take_back(state: ScanState, params: FramesParameters, progress: Progress) -> tuple[ScanState, FramesReport]:
    """Take frames in again; those that were never placed are looked for among the others, and stay out where nothing fits."""
    n, scan, frames = _frames_of(state, params)
    wanted = frames[~scan.frame_in[frames]]
    settled = scan.posed and not np.isnan(scan.fit_mm).all()
    lost = wanted[np.isnan(scan.fit_mm[wanted])] if settled else wanted[:0]
    inside = scan.frame_in.copy()
    inside[np.setdiff1d(wanted, lost)] = True
    after, still = replace(scan, frame_in=inside), []
    if len(lost):
        found = find_lost(after, [int(i) for i in lost], progress)
        after, still = found.scan, [int(i) for i in found.lost]
    return state.with_pass(n, after), _report(after, scan, still)
