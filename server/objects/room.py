"""Room on the disk: asked for before work begins, watched while it runs, and a little of it held back.

The ballast is a file that is given up when the disk is full, so that signing in, looking and writing how a job ended
still work then; it is taken again when there is room.
"""

import contextlib
import errno
import os
from pathlib import Path

from django.conf import settings

from objects.errors import NoRoom

FULL = "The disk of the server is full ({free} left). What was finished is safe; make room there, then go on."
MB = 2**20


def free_bytes() -> int:
    """Bytes that may still be written to the data folder."""
    room = os.statvfs(settings.DATA)
    return room.f_bavail * room.f_frsize


def full_sentence() -> str:
    """What is said when there is no room."""
    free = free_bytes()
    return FULL.format(free=f"{free / 1e9:.1f} GB" if free >= 1e9 else f"{free / 1e6:.0f} MB")


def need(extra: int = 0) -> None:
    """Raise `NoRoom` unless work of that size leaves the reserve untouched."""
    if free_bytes() < settings.ROOM_RESERVE_BYTES + extra:
        raise NoRoom(full_sentence())


def is_enough() -> bool:
    """Whether new work may begin."""
    return free_bytes() >= settings.ROOM_RESERVE_BYTES


def is_running_out() -> bool:
    """Whether work under way must stop before it fails in the middle of a file."""
    return free_bytes() < settings.ROOM_RESERVE_BYTES // 4


def is_full(error: BaseException) -> bool:
    """Whether an error says that the disk is full."""
    if isinstance(error, OSError) and error.errno in (errno.ENOSPC, errno.EDQUOT):
        return True
    said = str(error)
    # A reader of the database needs a page of shared memory beside it.
    return "database or disk is full" in said or ("disk I/O error" in said and free_bytes() < MB)


def tend_ballast() -> None:
    """Give the ballast up when the disk is full, take it again when there is plenty of room."""
    path, size = _ballast(), settings.ROOM_BALLAST_BYTES
    with contextlib.suppress(OSError):
        free = free_bytes()
        if path.exists():
            if free < size:
                path.unlink(missing_ok=True)
        elif size and free > settings.ROOM_RESERVE_BYTES + 2 * size:
            with path.open("wb") as out:
                os.posix_fallocate(out.fileno(), 0, size)


def give_up_ballast() -> None:
    """Make the last room there is."""
    _ballast().unlink(missing_ok=True)


def _ballast() -> Path:
    return settings.DATA / "ballast"
