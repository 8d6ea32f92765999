"""Files that can be made again at any time: each made once, never seen half written, named by its content."""

import os
import tempfile
from collections.abc import Callable
from pathlib import Path

from django.conf import settings


def cached(name: str) -> Path:
    """Where a file of the cache lies, or would; that it is asked for keeps it from being cleared away."""
    path = settings.DATA / "cache" / name
    if path.exists():
        os.utime(path)
    return path


def made(name: str, make: Callable[[Path], object]) -> Path:
    """A file of the cache; `make(path)` writes it where nobody looks when it is not there."""
    path = cached(name)
    if not path.exists():
        path.parent.mkdir(parents=True, exist_ok=True)
        with tempfile.TemporaryDirectory(prefix=".making-", dir=path.parent) as scratch:
            draft = Path(scratch) / "draft"
            make(draft)
            os.replace(draft, path)
    return path
