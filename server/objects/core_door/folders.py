"""Where capture folders lie: whole under their key, under way beside it under key and attempt."""

from collections.abc import Callable
from pathlib import Path
from typing import TypeVar

from django.conf import settings

from lucid_relic.errors import InputError

T = TypeVar("T")
UNDER_WAY = ".part-"


def capture_path(key: str) -> Path:
    """Folder of a whole capture."""
    return settings.DATA / "captures" / key


def parts_of(key: str) -> list[Path]:
    """What attempts at a capture left, the newest last."""
    found = settings.DATA.glob(f"captures/{UNDER_WAY}{key}-*")
    return sorted(found, key=lambda path: int(path.name.rsplit("-", 1)[1]))


def part_path(key: str, attempt: int) -> Path:
    """Folder in which an attempt takes or unpacks a capture."""
    return settings.DATA / "captures" / f"{UNDER_WAY}{key}-{attempt}"


def shown_path(key: str) -> Path:
    """Folder of a capture as far as it is: whole, or under way."""
    whole = capture_path(key)
    return whole if whole.exists() else next(reversed(parts_of(key)), whole)


def while_it_settles(key: str, read: Callable[[Path], T]) -> T:
    """What `read` makes of a capture's folder; once more when the capture was settled in its place meanwhile."""
    path = shown_path(key)
    try:
        return read(path)
    except (InputError, OSError):
        moved = shown_path(key)
        if moved == path:
            raise
        return read(moved)


def frame_file(key: str, index: int) -> str:
    """Name in the cache of the points of one frame."""
    return f"frame-{key}-{index}.points"
