"""How long computations speak: `progress(fraction, message)`, which raises `Cancelled` to stop."""

from collections.abc import Callable

Progress = Callable[[float, str], None]


def silent(fraction: float, message: str) -> None:
    """A progress listener that neither shows nor stops anything."""


def part_of(progress: Progress, start: float, end: float) -> Progress:
    """A progress that maps its own 0-1 onto `start`-`end` of another."""

    def inner(fraction: float, message: str) -> None:
        progress(start + (end - start) * min(max(fraction, 0.0), 1.0), message)

    return inner
