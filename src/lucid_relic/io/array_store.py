"""A content-addressed store of arrays: the name of an array is the hash of its content."""

import hashlib
import os
from pathlib import Path

import numpy as np

from lucid_relic.errors import InputError

NAME_LENGTH = 40  # of a hash of 20 bytes, in hexadecimal


def is_array_name(text: str) -> bool:
    """Whether a text can be the name of a stored array."""
    return len(text) == NAME_LENGTH and all(c in "0123456789abcdef" for c in text)


class ArrayStore:
    """Arrays as `.npy` files under a folder; writing the same array twice costs nothing."""

    def __init__(self, root: str | Path) -> None:
        self.root = Path(root)

    def path(self, name: str) -> Path:
        """Where an array of that name lies; raises `InputError` for a malformed name."""
        if not is_array_name(name):
            raise InputError("this is not the name of a stored array")
        return self.root / name[:2] / f"{name}.npy"

    @staticmethod
    def name_of(array: np.ndarray) -> str:
        """The name that an array has in every store: the hash of its kind, shape and content."""
        array = np.ascontiguousarray(array)
        digest = hashlib.blake2b(digest_size=20)
        digest.update(f"{array.dtype.str}{array.shape}".encode())
        digest.update(array.view(np.uint8).reshape(-1).data if array.size else b"")
        return digest.hexdigest()

    def take(self, file: Path, name: str) -> None:
        """Move a file that holds the array of that name here, unless it is here already."""
        path = self.path(name)
        if path.exists():
            return
        path.parent.mkdir(parents=True, exist_ok=True)
        os.replace(file, path)

    def put(self, array: np.ndarray) -> str:
        """Store an array and return its name."""
        array = np.ascontiguousarray(array)
        name = self.name_of(array)
        path = self.path(name)
        if not path.exists():
            path.parent.mkdir(parents=True, exist_ok=True)
            scratch = path.with_suffix(f".{os.getpid()}.part")
            with scratch.open("wb") as out:
                np.save(out, array, allow_pickle=False)
            os.replace(scratch, path)
        return name

    def get(self, name: str) -> np.ndarray:
        """Memory-map a stored array, read-only."""
        path = self.path(name)
        if not path.exists():
            raise InputError(f"the stored array {name[:8]}… is missing from the data folder")
        return np.load(path, mmap_mode="r", allow_pickle=False)
