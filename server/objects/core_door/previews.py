"""Previews on states that are held open."""

from dataclasses import dataclass
from typing import Any

from lucid_relic.errors import InputError, LucidRelicError
from lucid_relic.io.results import finite
from lucid_relic.memo import array_bytes, remembered_bytes
from lucid_relic.operations import get_operation, list_operations
from lucid_relic.types import ScanState
from lucid_relic.view.packing import pack_preview
from objects.core_door.states import load_shown
from objects.core_door.views import know_views


@dataclass(frozen=True)
class OpenedState:
    """A state held in memory with all that was worked out from it."""

    state: ScanState

    def nbytes(self) -> int:
        """Memory that its arrays and what is remembered of its passes take."""
        return sum(array_bytes(p) + remembered_bytes(p) for p in self.state.passes)


def open_for_preview(manifest: dict[str, Any]) -> OpenedState:
    """Load a snapshot's passes and work out what every preview starts from, so that the first one is as fast as all."""
    state = load_shown(manifest)
    know_views(manifest, state)
    for operation in list_operations():
        if operation.preview is not None and operation.preview_early and operation.missing(state) is None:
            try:
                operation.preview(state, operation.parameters())
            except LucidRelicError:
                continue  # what cannot be shown with its defaults says so when it is asked for
    return OpenedState(state)


def preview(opened: OpenedState, name: str, parameters: dict[str, Any], head: dict[str, Any]) -> bytes:
    """What an operation would do, packed for the viewer; `head` goes into its head beside figures and layers."""
    operation = get_operation(name)
    if operation.preview is None:
        raise InputError(f"“{operation.title}” has no preview.")
    shown = operation.preview(opened.state, operation.parameters.from_dict(parameters))
    layers = [(layer.kind, finite(layer.facts), layer.arrays) for layer in shown.layers]
    return pack_preview(finite(shown.figures), layers, head)
