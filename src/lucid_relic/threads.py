"""Compiled loops: made ready for processes that are forked, and serial ones side by side on the cores of this machine.

Side by side is only for loops that run without Python's lock (`nogil=True`) and are not parallel themselves: two parallel ones at
once are more than Numba's simplest threading layer bears.
"""

import os
from collections.abc import Callable, Iterable
from concurrent.futures import ThreadPoolExecutor
from functools import cache
from typing import TypeVar

from numba import get_num_threads
from numba.core.registry import cpu_target

PIECES = 4  # that each thread gets: handing over short loops one by one takes as long as they do
S = TypeVar("S")
T = TypeVar("T")


def make_loops_ready() -> None:
    """Load what Numba knows of types and of this computer, for which the first loop of a process waits half a second.

    Numba starts no thread for it, so that a process which did this may still be forked.
    """
    cpu_target.target_context.refresh()
    cpu_target.typing_context.refresh()


@cache
def _pool(threads: int, process: int) -> ThreadPoolExecutor:
    """A pool of this process: one that was made before a fork has no threads after it."""
    return ThreadPoolExecutor(threads, thread_name_prefix="loops")


def side_by_side(work: Callable[[S], T], items: Iterable[S]) -> list[T]:
    """`work` of every item, in order; what it raises is raised here."""
    threads = get_num_threads()
    if threads == 1:
        return list(map(work, items))
    asked = list(items)
    size = max(len(asked) // (PIECES * threads), 1)
    pieces = [asked[k : k + size] for k in range(0, len(asked), size)]
    done = _pool(threads, os.getpid()).map(lambda piece: list(map(work, piece)), pieces)
    return [one for piece in done for one in piece]
