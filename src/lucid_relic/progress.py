"""How long computations speak: `progress(fraction, message)`, which raises `Cancelled` to stop."""

import threading
from collections.abc import Callable
from typing import TypeVar

import numpy as np

Progress = Callable[[float, str], None]
T = TypeVar("T")
WATCH_SECONDS = 0.5  # how often a watched loop is asked how far it is: people notice stillness after about two


def silent(fraction: float, message: str) -> None:
    """A progress listener that neither shows nor stops anything."""


def part_of(progress: Progress, start: float, end: float) -> Progress:
    """A progress that maps its own 0-1 onto `start`-`end` of another."""

    def inner(fraction: float, message: str) -> None:
        progress(start + (end - start) * min(max(fraction, 0.0), 1.0), message)

    return inner


def watched(run: Callable[[np.ndarray], T], progress: Progress, total: int, message: str) -> T:
    """The answer of a long compiled loop that cannot call back, told about while it runs.

    `run(board)` gets board (2,) int64: it writes how far of `total` it is into board[0], and ends early when board[1]
    is not 0, as it is once `progress` raised. The loop must be compiled to run without Python's lock.
    """
    board = np.zeros(2, np.int64)
    answer: list[T] = []
    fault: list[BaseException] = []

    def work() -> None:
        try:
            answer.append(run(board))
        except BaseException as error:
            fault.append(error)

    thread = threading.Thread(target=work, daemon=True)
    thread.start()
    try:
        while thread.is_alive():
            thread.join(WATCH_SECONDS)
            progress(min(float(board[0]) / max(total, 1), 1.0), message)
    finally:
        board[1] = 1
        thread.join()
    if fault:
        raise fault[0]
    return answer[0]
