"""What a marker dot looks like: a white disc on black, with or without a ring of parts that tells its number.

Round targets whose ring of parts is a word that reads the same from wherever one begins are common practice in close-range
photogrammetry; these words are our own: no two differ in fewer than `LEAST_APART` parts, however they are turned.
"""

from functools import cache

import numpy as np

PARTS = 14  # of the ring
LEAST_APART = 4  # parts in which two words differ, or a word and itself turned
LEAST_EDGES = 4  # between black and white parts: fewer would look like a plain ring
BLACK_RADII = 1.6  # of the disc, out to which it is black
CODE_RADII = (1.6, 2.4)  # of the disc, between which the parts lie
WHITE, BLACK = 0.82, 0.025  # linear light


@cache
def words() -> tuple[int, ...]:
    """The words of all numbers, from 0 on: each the least of its own turns."""
    taken: list[int] = []
    for word in range(2**PARTS):
        turns = _turns(word)
        if word != min(turns) or _edges(word) < LEAST_EDGES:
            continue
        if min(_apart(word, t) for t in turns[1:]) < 2:
            continue  # read from another beginning it must not be itself but for a single part
        if all(min(_apart(t, other) for t in turns) >= LEAST_APART for other in taken):
            taken.append(word)
    return tuple(taken)


@cache
def _number_of() -> dict[int, int]:
    return {turn: number for number, word in enumerate(words()) for turn in _turns(word)}


def number_of(parts: np.ndarray) -> int | None:
    """The number of a ring's parts (14,) bool, from any beginning; None when there is no such word."""
    return _number_of().get(int(sum(1 << k for k in np.flatnonzero(parts))))


def light_of(x: np.ndarray, y: np.ndarray, radius_mm: float, number: int | None) -> np.ndarray:
    """Linear light at places of a dot's plane (mm from its middle); NaN beside the dot."""
    away = np.hypot(x, y) / radius_mm
    out = np.where(away < 1, WHITE, np.where(away < BLACK_RADII, BLACK, np.nan))
    if number is not None:
        part = ((np.arctan2(y, x) / (2 * np.pi)) % 1.0 * PARTS).astype(int) % PARTS
        white = (words()[number] >> part) & 1 > 0
        ring = (away >= CODE_RADII[0]) & (away < CODE_RADII[1])
        out = np.where(ring, np.where(white, WHITE, BLACK), out)
        out = np.where((away >= CODE_RADII[1]) & (away < CODE_RADII[1] + 0.4), BLACK, out)
    return out


def _turns(word: int) -> list[int]:
    whole = 2**PARTS - 1
    return [((word << k) | (word >> (PARTS - k))) & whole for k in range(PARTS)]


def _edges(word: int) -> int:
    return (word ^ _turns(word)[1]).bit_count()


def _apart(a: int, b: int) -> int:
    return (a ^ b).bit_count()
