"""Serial compiled loops side by side on the cores of this machine.

Only for loops that run without Python's lock (`nogil=True`) and are not parallel themselves: two parallel ones at
once are more than Numba's simplest threading layer bears.
"""

import os
from collections.abc import Callable, Iterable
from concurrent.futures import ThreadPoolExecutor
from functools import cache
from typing import TypeVar

from numba import get_num_threads

S = TypeVar("S")
T = TypeVar("T")


@cache
def _pool(threads: int, process: int) -> ThreadPoolExecutor:
    """A pool of this process: one that was made before a fork has no threads after it."""
    return ThreadPoolExecutor(threads, thread_name_prefix="loops")


def side_by_side(work: Callable[[S], T], items: Iterable[S]) -> list[T]:
    """`work` of every item, in order; what it raises is raised here."""
    threads = get_num_threads()
    return list(map(work, items) if threads == 1 else _pool(threads, os.getpid()).map(work, items))
