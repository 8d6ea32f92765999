"""Writing files so that a reader never sees half of one."""

import os
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import BinaryIO


@contextmanager
def replacing(path: str | Path) -> Iterator[BinaryIO]:
    """A binary file that takes the place of `path` only when the block ends without an error; its `name` is where it lies."""
    path = Path(path)
    handle, name = tempfile.mkstemp(prefix=f".{path.name}.", dir=path.parent)
    os.close(handle)
    try:
        with open(name, "wb") as out:
            yield out
        os.chmod(name, 0o644)
        os.replace(name, path)
    except BaseException:
        Path(name).unlink(missing_ok=True)
        raise
