"""Progress on a terminal: one line with share, message and time left."""

import sys
import time

from lucid_relic.progress import Progress


def progress_line() -> Progress:
    """A progress that rewrites one line of stderr, or stays silent when it is not a terminal."""
    started = time.monotonic()
    last = 0.0

    def show(fraction: float, message: str) -> None:
        nonlocal last
        now = time.monotonic()
        if not sys.stderr.isatty() or (now - last < 0.1 and fraction < 1):
            return
        last = now
        left = (now - started) * (1 - fraction) / fraction if fraction > 0.02 else 0
        end = "\n" if fraction >= 1 else ""
        print(f"\r{fraction:4.0%}  {message:<48.48} {left:4.0f} s left", end=end, file=sys.stderr, flush=True)

    return show
