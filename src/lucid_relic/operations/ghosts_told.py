"""What operations tell of ghost layers, and leave behind among a state's notes for the findings."""

from collections.abc import Sequence
from dataclasses import replace
from typing import TypedDict

from lucid_relic.alignment.ghosts import Ghost
from lucid_relic.inspection.summary import GHOSTS
from lucid_relic.types import PassState, ScanState

GhostTold = TypedDict(
    "GhostTold", {"pass": str, "frames": list[int], "apart_mm": float, "noises": float, "at": list[float]}
)
"""Frames of a pass, how far their skin lies off (mm, and in widths of the noise), and a place (mm) where it is widest."""


def told(state_passes: Sequence[PassState], ghosts: Sequence[Ghost]) -> list[GhostTold]:
    """Ghosts in plain figures."""
    return [
        {
            "pass": state_passes[g.pass_index].title,
            "frames": [int(i) for i in g.frames],
            "apart_mm": round(g.apart_mm, 4),
            "noises": round(g.noises, 2),
            "at": [round(float(v), 3) for v in g.at],
        }
        for g in ghosts
    ]


def noted(state: ScanState, ghosts: list[GhostTold]) -> ScanState:
    """The state with what is known of its ghost layers."""
    return replace(state, notes={**state.notes, GHOSTS: ghosts})
