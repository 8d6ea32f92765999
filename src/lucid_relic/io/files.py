"""Writing files so that a reader never sees half of one."""

import os
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import BinaryIO


@contextmanager
def replacing(path: str | Path) -> Iterator[BinaryIO]:
    """A binary file that takes the place of `path` only when the block ends without an error."""
    path = Path(path)
    handle, name = tempfile.mkstemp(prefix=f".{path.name}.", dir=path.parent)
    try:
        with os.fdopen(handle, "wb") as out:
            yield out
        os.chmod(name, 0o644)
        os.replace(name, path)
    except BaseException:
        Path(name).unlink(missing_ok=True)
        raise
