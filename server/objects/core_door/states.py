"""States of objects, to and from what a snapshot's row holds."""

import fcntl
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from django.conf import settings

from lucid_relic.inspection.findings import findings
from lucid_relic.inspection.summary import summarise_state
from lucid_relic.io.array_store import ArrayStore
from lucid_relic.io.results import finite
from lucid_relic.io.snapshots import key_of_step, load_state, save_state, stored_names
from lucid_relic.types import ScanState
from objects.core_door.captures import open_pass, with_pass_added

__all__ = [
    "key_of_step", "load", "load_shown", "save", "store", "stored_names", "storing", "with_pass_again",
]  # fmt: skip


def store() -> ArrayStore:
    """The content-addressed store of this installation."""
    return ArrayStore(settings.DATA / "store")


@contextmanager
def storing(alone: bool = False) -> Iterator[None]:
    """Between storing arrays and naming them in a committed snapshot nothing is collected, in any process.

    `alone` is for who collects: it waits until nobody stores. The lock ends with the process that holds it.
    """
    with (settings.DATA / "store.lock").open("a") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX if alone else fcntl.LOCK_SH)
        yield


def load(manifest: dict[str, Any] | None) -> ScanState:
    """The state of a snapshot's manifest; an empty one for None."""
    return ScanState() if manifest is None else load_state(manifest, store(), open_pass)


def load_shown(manifest: dict[str, Any]) -> ScanState:
    """The passes of a snapshot without its surfaces: what views and previews of passes need, and little memory."""
    return load({**manifest, "volume": None, "mesh": None, "points": None})


def with_pass_again(state: ScanState, after: dict[str, Any]) -> ScanState:
    """The state with the pass added once more that was the last one of a snapshot's manifest."""
    scan = load_shown({**after, "passes": after["passes"][-1:], "takes": []}).passes[0]
    return with_pass_added(state, scan)


def save(state: ScanState) -> tuple[dict[str, Any], dict[str, Any], list[dict[str, Any]]]:
    """Manifest, summary and findings of a state, its arrays stored."""
    summary = finite(summarise_state(state))
    return finite(save_state(state, store())), summary, finite(findings(summary))
