"""Results that are kept as long as the thing they were worked out from lives.

States are immutable, so what follows from one stays true. Previews ask the same of a state many times a second.
"""

import threading
import weakref
from collections.abc import Callable, Hashable
from typing import Any, TypeVar

import numpy as np

T = TypeVar("T")
_kept: dict[int, dict[Hashable, Any]] = {}
_making: dict[tuple[int, Hashable], threading.RLock] = {}
_lock = threading.Lock()


def remembered(owner: object, key: Hashable, make: Callable[[], T]) -> T:
    """What `make()` gave for this owner and key, worked out the first time it is asked for.

    Whoever asks for the same meanwhile waits for it; what else is asked for does not. What one `make` asks for may not ask
    for what that makes.
    """
    name = (id(owner), key)
    with _lock:
        own = _of(owner)
        if key in own:
            return own[key]
        made = _making.setdefault(name, threading.RLock())
    try:
        with made:
            if key not in own:
                value = make()
                with _lock:
                    own[key] = value
            return own[key]
    finally:
        with _lock:
            _making.pop(name, None)


def remember(owner: object, key: Hashable, value: object) -> None:
    """Keep a value that was worked out elsewhere."""
    with _lock:
        _of(owner)[key] = value


def remembered_bytes(owner: object) -> int:
    """Memory that the arrays kept for an owner take."""
    with _lock:
        return sum(array_bytes(v) for v in _kept.get(id(owner), {}).values())


def array_bytes(value: Any, depth: int = 4) -> int:
    """Memory of all arrays in a value: itself, its items, its fields; looks `depth` levels deep."""
    if isinstance(value, np.ndarray):
        return value.nbytes
    if depth == 0 or value is None or isinstance(value, (str, bytes, int, float)):
        return 0
    if isinstance(value, dict):
        return sum(array_bytes(v, depth - 1) for v in value.values())
    if isinstance(value, (list, tuple)):
        return sum(array_bytes(v, depth - 1) for v in value)
    return sum(array_bytes(v, depth - 1) for v in getattr(value, "__dict__", {}).values())


def _of(owner: object) -> dict[Hashable, Any]:
    name = id(owner)
    if name not in _kept:
        _kept[name] = {}
        weakref.finalize(owner, _kept.pop, name, None)
    return _kept[name]
