"""What other looks say of a place: that they saw a surface there, or that they looked through it."""

from collections.abc import Iterable, Sequence
from functools import partial

import numpy as np

from lucid_relic.geometry import _kernels
from lucid_relic.geometry.looks import Look, look, look_numbers
from lucid_relic.geometry.spacing import pixel_spacing
from lucid_relic.memo import remembered
from lucid_relic.types import PassState

WITNESSES = 16  # looks asked about each place: more found the same
MOST_LOOKS = 64  # asked where a place may be seen by few
CONFIRMING = 2  # looks beside its own make a place sure: a single one may err alike, from nearly the same side
SURE_NOISES, SURE_SPACINGS = 4.0, 1.0  # how near they must have seen it, the larger


def every_look(passes: Sequence[PassState]) -> list[tuple[int, int]]:
    """Number of the pass and of the look of all looks of some passes."""
    return [(n, int(i)) for n, p in enumerate(passes) for i in look_numbers(p)]


def others_of(k: int, count: int) -> np.ndarray:
    """Numbers of the looks to ask about what the k-th of `count` saw, spread evenly over all others."""
    others = np.delete(np.arange(count), k)
    if len(others) <= WITNESSES:
        return others
    return others[np.linspace(k % 3, len(others) - 1, WITNESSES).astype(int)]


def spread_over(count: int, most: int = WITNESSES) -> np.ndarray:
    """Numbers of the looks to ask about places of any look, at most so many."""
    return np.unique(np.linspace(0, count - 1, min(most, count)).astype(int))


def held_look(scan: PassState, number: int) -> Look:
    """A look that is kept as long as its pass is: a hand asks the same again and again."""
    return remembered(scan, ("look", number), partial(look, scan, number))


def asked(
    looks: Iterable[tuple[PassState, Look]], places: np.ndarray, margin_mm: float
) -> tuple[np.ndarray, np.ndarray]:
    """How many looks saw a surface within a margin of places (n, 3) of the object, and how many farther behind them."""
    agree, contradict = np.zeros(len(places), np.int64), np.zeros(len(places), np.int64)
    for scan, one in looks:
        for _ in range(one.votes):
            _kernels.see_through(
                places, one.T_camera_object(scan), one.camera.as_vector, one.depth, margin_mm, agree, contradict
            )
    return agree, contradict


def confirmed(
    passes: Sequence[PassState], frames: np.ndarray, places: np.ndarray, most: int = MOST_LOOKS
) -> np.ndarray:
    """(n,) bool: which places (n, 3) of the object, seen in frames (n,) of the first pass, looks beside their own saw, too.

    most is how many looks are asked, spread over all.
    """
    every = every_look(passes)
    chosen = [every[k] for k in spread_over(len(every), most)]
    find = held_look if most <= WITNESSES else look
    looks = ((passes[n], find(passes[n], i)) for n, i in chosen)
    agree, _ = asked(looks, places.astype(np.float64), _sure_mm(passes))
    return agree - np.isin(frames, [i for n, i in chosen if n == 0]) >= CONFIRMING


def _sure_mm(passes: Sequence[PassState]) -> float:
    return max(max(SURE_NOISES * p.noise_mm, SURE_SPACINGS * pixel_spacing(p)) for p in passes)
