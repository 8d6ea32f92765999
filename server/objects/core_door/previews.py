"""Previews on states that are held open."""

import threading
from dataclasses import replace
from typing import Any

from lucid_relic.errors import InputError, LucidRelicError
from lucid_relic.io.results import finite
from lucid_relic.memo import array_bytes, remembered_bytes
from lucid_relic.operations import get_operation, list_operations
from lucid_relic.types import ScanState
from lucid_relic.view.packing import pack_preview
from objects.core_door.states import load, load_shown
from objects.core_door.views import know_views


class OpenedState:
    """A snapshot's passes held in memory with all that was worked out from them; its surface once a preview asks for it."""

    def __init__(self, state: ScanState, manifest: dict[str, Any]) -> None:
        self.state = state
        self._manifest = manifest
        self._with_surface: ScanState | None = None
        self._lock = threading.Lock()

    def with_surface(self) -> ScanState:
        """The passes as they are held, and the surface."""
        with self._lock:
            if self._with_surface is None:
                own = {**self._manifest, "passes": [], "volume": None, "points": None, "takes": []}
                self._with_surface = replace(self.state, mesh=load(own).mesh)
            return self._with_surface

    def nbytes(self) -> int:
        """Memory that its arrays and what is remembered of its passes take."""
        passes = sum(array_bytes(p) + remembered_bytes(p) for p in self.state.passes)
        whole = self._with_surface
        return passes + (0 if whole is None else array_bytes(whole.mesh) + remembered_bytes(whole.mesh))


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
    return OpenedState(state, manifest)


def preview(opened: OpenedState, name: str, parameters: dict[str, Any], head: dict[str, Any]) -> bytes:
    """What an operation would do, packed for the viewer; `head` goes into its head beside figures and layers."""
    operation = get_operation(name)
    if operation.preview is None:
        raise InputError(f"“{operation.title}” has no preview.")
    state = opened.with_surface() if operation.preview_surface else opened.state
    shown = operation.preview(state, operation.parameters.from_dict(parameters))
    layers = [(layer.kind, finite(layer.facts), layer.arrays) for layer in shown.layers]
    return pack_preview(finite(shown.figures), layers, head)
