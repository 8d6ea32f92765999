"""What the viewer gets of surfaces beside the surface itself: holes, walls, takes and how far these lie apart."""

import hashlib
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from lucid_relic.errors import InputError
from lucid_relic.inspection.deviation import reference
from lucid_relic.inspection.summary import ACCURACY, DEVIATION
from lucid_relic.io.snapshots import load_mesh
from lucid_relic.types import TriangleMesh
from lucid_relic.view.surfaces import (
    packed_accuracy,
    packed_deviation,
    packed_off,
    packed_photographs,
    packed_rims,
    packed_walls,
    take_glb,
)
from objects.core_door.cache import made
from objects.core_door.states import load_shown, store
from objects.core_door.views import mesh_entry, pass_file

OF_SURFACE = {"rims": packed_rims, "walls": packed_walls, "photographs": packed_photographs}
MEASURES = (*OF_SURFACE, DEVIATION, ACCURACY)  # of a snapshot's mesh, by name


def measure_file(manifest: dict[str, Any], what: str) -> str:
    """Name in the cache of what was measured of a manifest's mesh; raises `InputError` when there is nothing to measure."""
    entry = mesh_entry(manifest)
    texture = entry["texture"] or {}
    # Seams of a texture split vertices; what is healed of it no photograph shows.
    told = [str(texture.get(name))[:16] for name in ("uv", "unseen", "photo")]
    if what in (DEVIATION, ACCURACY):
        passes = [(pass_file(p), p["placed"]) for p in manifest["passes"]]
        takes = [(t["name"], t["mesh"]["vertices"], t.get("motion")) for t in manifest.get("takes", [])]
        facts = repr((_against(manifest), passes, takes) if what == DEVIATION else (_worked_out(manifest), passes))
        told = [*told, hashlib.blake2b(facts.encode(), digest_size=8).hexdigest()]
    return f"{what}-{_shape(entry)}-{'-'.join(told)}.{what}"


def make_measure(manifest: dict[str, Any], what: str) -> Path:
    """Holes, walls, photographs, deviation or accuracy of a snapshot's mesh, for the viewer."""

    def write(path: Path) -> None:
        mesh = _mesh(manifest["mesh"])
        if what == DEVIATION:
            path.write_bytes(packed_deviation(mesh, reference(load_shown(manifest), _against(manifest))))
        elif what == ACCURACY:
            path.write_bytes(packed_accuracy(replace(load_shown(manifest), mesh=mesh), _worked_out(manifest)))
        else:
            path.write_bytes(OF_SURFACE[what](mesh))

    return made(measure_file(manifest, what), write)


def _noted(manifest: dict[str, Any], name: str, missing: str) -> dict[str, Any]:
    """What a state notes of its surface under a name; raises `InputError` with the sentence when that is nothing."""
    told: dict[str, Any] | None = manifest.get("notes", {}).get(name)
    if told is None:
        raise InputError(missing)
    return told


def _against(manifest: dict[str, Any]) -> str:
    """What a state's surface was held against last."""
    against: str = _noted(manifest, DEVIATION, "This surface was not held against anything yet.")["against"]
    return against


def _worked_out(manifest: dict[str, Any]) -> float:
    """What averaging over pixels leaves of the variance of a state's frames."""
    averaged: float = _noted(manifest, ACCURACY, "The accuracy of this surface was not worked out yet.")["averaged"]
    return averaged


def take_entry(manifest: dict[str, Any], number: int) -> dict[str, Any] | None:
    """The mesh of a take in a manifest, and its motion since it was fused, or None when there is none of that number."""
    takes = manifest.get("takes", [])
    return {**takes[number]["mesh"], "motion": takes[number].get("motion")} if number < len(takes) else None


def take_file(entry: dict[str, Any], whole: bool = False) -> str:
    """Name in the cache of a take as the viewer gets it, at a glance or the whole of it."""
    return f"take{_much(whole)}-{_shape(entry)}.glb"


def make_take(manifest: dict[str, Any], number: int, whole: bool) -> Path:
    """A take of a snapshot, for the viewer."""
    entry = _take_entry(manifest, number)
    return made(take_file(entry, whole), lambda path: path.write_bytes(take_glb(_mesh(entry), whole)))


def off_file(entry: dict[str, Any], other: dict[str, Any], whole: bool = False) -> str:
    """Name in the cache of how far one take lies off another."""
    return f"off{_much(whole)}-{_shape(entry)}-{_shape(other)}.off"


def _much(whole: bool) -> str:
    return "-whole" if whole else "-few"


def make_off(manifest: dict[str, Any], number: int, other: int, whole: bool) -> Path:
    """How far a take lies off another one, for the viewer."""
    return _off(_take_entry(manifest, number), _take_entry(manifest, other), whole)


def _off(one: dict[str, Any], two: dict[str, Any], whole: bool) -> Path:
    return made(off_file(one, two, whole), lambda path: path.write_bytes(packed_off(_mesh(one), _mesh(two), whole)))


def surface_entry(manifest: dict[str, Any]) -> dict[str, Any]:
    """The mesh of a manifest as takes are told of; raises `InputError` when there is none."""
    if manifest["mesh"] is None:
        raise InputError("One of these states has no surface yet.")
    return {**manifest["mesh"], "motion": None}


def make_surface(manifest: dict[str, Any], whole: bool) -> Path:
    """The bare surface of a snapshot, for the viewer."""
    entry = surface_entry(manifest)
    return made(take_file(entry, whole), lambda path: path.write_bytes(take_glb(_mesh(entry), whole)))


def make_surface_off(manifest: dict[str, Any], other: dict[str, Any], whole: bool) -> Path:
    """How far the surface of a snapshot lies off that of another one, for the viewer."""
    return _off(surface_entry(manifest), surface_entry(other), whole)


def _shape(entry: dict[str, Any]) -> str:
    motion = entry.get("motion")
    moved = f"-{hashlib.blake2b(repr(motion).encode(), digest_size=8).hexdigest()}" if motion else ""
    return f"{entry['vertices'][:16]}-{entry['faces'][:16]}{moved}"


def _take_entry(manifest: dict[str, Any], number: int) -> dict[str, Any]:
    entry = take_entry(manifest, number)
    assert entry is not None
    return entry


def _mesh(entry: dict[str, Any]) -> TriangleMesh:
    mesh = load_mesh(entry, store())
    assert mesh is not None
    return mesh.transformed(np.array(entry["motion"])) if entry.get("motion") else mesh
