"""States of objects, to and from what a snapshot's row holds."""

from typing import Any

from django.conf import settings

from lucid_relic.inspection.summary import findings, summarise_state
from lucid_relic.io.array_store import ArrayStore
from lucid_relic.io.results import finite
from lucid_relic.io.snapshots import load_state, save_state
from lucid_relic.types import ScanState
from objects.core_door.captures import open_pass


def store() -> ArrayStore:
    """The content-addressed store of this installation."""
    return ArrayStore(settings.DATA / "store")


def load(manifest: dict[str, Any] | None) -> ScanState:
    """The state of a snapshot's manifest; an empty one for None."""
    return ScanState() if manifest is None else load_state(manifest, store(), open_pass)


def load_shown(manifest: dict[str, Any]) -> ScanState:
    """The passes of a snapshot without its surfaces: what views and previews of passes need, and little memory."""
    return load({**manifest, "volume": None, "mesh": None, "points": None})


def save(state: ScanState) -> tuple[dict[str, Any], dict[str, Any], list[dict[str, Any]]]:
    """Manifest, summary and findings of a state, its arrays stored."""
    summary = finite(summarise_state(state))
    return finite(save_state(state, store())), summary, finite(findings(summary))
