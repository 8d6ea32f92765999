"""The states that the live service holds open: least recently used ones go first, when memory or their number asks."""

import threading
from collections import OrderedDict
from collections.abc import Callable

from objects.core_door import OpenedState


class OpenedStates:
    """Opened snapshots by id; each is loaded once, however many ask at the same time."""

    def __init__(self, load: Callable[[str], OpenedState], limit_bytes: int) -> None:
        self._load = load
        self._limit = limit_bytes
        self._states: OrderedDict[str, OpenedState] = OrderedDict()
        self._lock = threading.Lock()
        self._loading: dict[str, threading.Lock] = {}

    def get(self, snapshot: str) -> OpenedState:
        """The state of a snapshot, loaded when it is not held."""
        with self._lock:
            own = self._loading.setdefault(snapshot, threading.Lock())
        with own:
            with self._lock:
                if snapshot in self._states:
                    self._states.move_to_end(snapshot)
                    return self._states[snapshot]
            state = self._load(snapshot)
            with self._lock:
                self._states[snapshot] = state
                self._loading.pop(snapshot, None)
                self._make_room()
        return state

    def held(self) -> list[str]:
        """Ids of what is held, the one used last at the end."""
        with self._lock:
            return list(self._states)

    def _make_room(self) -> None:
        """Let go of the oldest until the rest fits; the newest always stays."""
        sizes = {name: state.nbytes() for name, state in self._states.items()}
        while len(self._states) > 1 and sum(sizes.values()) > self._limit:
            name, _ = self._states.popitem(last=False)
            del sizes[name]
