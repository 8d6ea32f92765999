"""One process at a time: files whose locks end with the process that holds them."""

import fcntl
from pathlib import Path
from typing import IO

from django.conf import settings


def take(name: str) -> IO[str] | None:
    """The lock of a name in the data folder, held while the file is open; None when another process has it."""
    file = _path(name).open("a")
    try:
        fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        file.close()
        return None
    return file


def take_first(name: str, count: int) -> tuple[int, IO[str]] | None:
    """The first free of several locks `name-0`, `name-1`…, with its number."""
    for number in range(count):
        held = take(f"{name}-{number}")
        if held is not None:
            return number, held
    return None


def is_taken(name: str) -> bool:
    """Whether a process holds a lock."""
    held = take(name)
    if held is not None:
        held.close()
    return held is None


def _path(name: str) -> Path:
    return settings.DATA / f"{name}.lock"
