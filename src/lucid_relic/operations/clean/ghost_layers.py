"""Ghost layers: frames that lay the surface a second time beside it are found, named and mended."""

from dataclasses import dataclass, replace
from functools import partial
from typing import TypedDict

import numpy as np

from lucid_relic.alignment.ghosts import Ghost, find_ghosts, moved_onto
from lucid_relic.cleaning.skins import without_doubles
from lucid_relic.errors import StepNotPossible
from lucid_relic.memo import remembered
from lucid_relic.operations.ghosts_told import GhostTold, noted, told
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.preview import Preview
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.operations.shown import placed_apart, shown_points
from lucid_relic.operations.words import mm
from lucid_relic.progress import Progress, part_of, silent
from lucid_relic.types import ScanState

ROUNDS = 3  # of looking, with mending between them
WIDEST = 1.6  # times the distance apart, within which a double skin lies everywhere


@dataclass(frozen=True, kw_only=True)
class GhostLayersParameters(Parameters):
    mend: str = param(
        "move",
        "What becomes of them: moved onto the others, left out, or their double skin taken away",
        choices=("move", "leave_out", "take_skin", "nothing"),
    )


class GhostLayersReport(TypedDict):
    """What was found, how often was looked, what was still found at the end, and points taken away."""

    found: list[GhostTold]
    rounds: int
    left: list[GhostTold]
    points_gone: int


def _headline(report: Report) -> str:
    if not report["found"]:
        return "none"
    frames = sum(len(g["frames"]) for g in report["found"])
    widest = max(g["apart_mm"] for g in report["found"])
    return f"{frames} frame{'s' * (frames != 1)}, {mm(widest, 2)}" + (", some left" if report["left"] else "")


def _groups(state: ScanState) -> list[list[int]]:
    """Passes with frames, those that lie in one frame together; raises when there are none."""
    groups = [[n for n in group if state.passes[n].cloud is None] for group in placed_apart(state)]
    groups = [group for group in groups if group]
    if not groups:
        raise StepNotPossible("Points and meshes came without frames: settle says how far they lie apart.")
    waiting = [p.title for p in state.passes if p.cloud is None and not p.posed]
    if waiting:
        raise StepNotPossible(f"The frames of “{waiting[0]}” are not placed yet. Place frames first.")
    return groups


def _found(state: ScanState, progress: Progress) -> list[Ghost]:
    """The ghosts of all passes, their numbers those of the state."""
    out: list[Ghost] = []
    groups = _groups(state)
    for k, group in enumerate(groups):
        part = part_of(progress, k / len(groups), (k + 1) / len(groups))
        for ghost in find_ghosts(tuple(state.passes[n] for n in group), part):
            out.append(replace(ghost, pass_index=group[ghost.pass_index]))
    return out


def _preview(state: ScanState, params: GhostLayersParameters) -> Preview:
    """What stands off, marked in the view."""
    ghosts = remembered(state, "ghost layers", partial(_found, state, silent))
    shown = shown_points(state, range(len(state.passes)))
    flags = []
    for n, view in enumerate(shown.views):
        frames = np.concatenate([g.frames for g in ghosts if g.pass_index == n] or [np.zeros(0, int)])
        flags.append(np.isin(view.frame, frames))
    return Preview({"found": told(state.passes, ghosts)}, shown.layers(np.concatenate(flags)))


@operation(
    "ghost_layers",
    title="Ghost layers",
    stage="clean",
    key="Alt+Y",
    weight=3,
    needs=(Need.PASSES,),
    parameters=GhostLayersParameters,
    headline=_headline,
    preview=_preview,
    preview_early=False,
)
def ghost_layers(
    state: ScanState, params: GhostLayersParameters, progress: Progress
) -> tuple[ScanState, GhostLayersReport]:
    """Find frames that lay the surface a second time beside it, and mend them; look again until nothing is found."""
    first: list[GhostTold] = []
    gone = 0
    ghosts: list[Ghost] = []
    rounds = 0
    for rounds in range(1, ROUNDS + 1):
        part = part_of(progress, (rounds - 1) / ROUNDS, rounds / ROUNDS)
        ghosts = _found(state, part_of(part, 0.0, 0.7))
        first = first or told(state.passes, ghosts)
        if not ghosts or params.mend == "nothing" or rounds == ROUNDS:
            break
        state, went = _mended(state, ghosts, params.mend, part_of(part, 0.7, 1.0))
        gone += went
        if params.mend == "take_skin":  # what only they saw stays, and stays where they laid it
            ghosts = []
            break
    left = told(state.passes, ghosts)
    return noted(state, left), {"found": first, "rounds": rounds, "left": left, "points_gone": gone}


def _mended(state: ScanState, ghosts: list[Ghost], how: str, progress: Progress) -> tuple[ScanState, int]:
    """The state with ghosts moved, left out or without their double skin, and the points that went."""
    if how == "move":
        return replace(state, passes=moved_onto(state.passes, ghosts)), 0
    if how == "leave_out":
        for ghost in ghosts:
            scan = state.passes[ghost.pass_index]
            inside = scan.frame_in.copy()
            inside[ghost.frames] = False
            state = state.with_pass(ghost.pass_index, replace(scan, frame_in=inside))
        return state, 0
    gone = 0
    widest = WIDEST * max(g.apart_mm for g in ghosts)
    for group in _groups(state):
        frames = {
            k: np.concatenate([g.frames for g in ghosts if g.pass_index == n])
            for k, n in enumerate(group)
            if any(g.pass_index == n for g in ghosts)
        }
        if not frames:
            continue
        passes, went = without_doubles(tuple(state.passes[n] for n in group), frames, widest, progress)
        for n, scan in zip(group, passes, strict=True):
            state = state.with_pass(n, scan)
        gone += went
    return state, gone
