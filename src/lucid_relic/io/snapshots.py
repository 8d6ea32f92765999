"""Snapshots: a `ScanState` as plain JSON whose arrays lie in an `ArrayStore`."""

import hashlib
import json
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from lucid_relic import __version__
from lucid_relic.io.array_store import ArrayStore, is_array_name
from lucid_relic.types import (
    MeasuredCloud,
    PassState,
    PointCloud,
    ScanState,
    Take,
    Texture,
    TriangleMesh,
    Turntable,
    Volume,
)

PASS_ARRAYS = ("frame_poses", "frame_in", "fit_mm", "keep", "scaffold", "plate", "T_object_pass")
VOLUME_ARRAYS = ("origin", "coords", "distance", "weight", "colour")
CLOUD_ARRAYS = ("points", "normals", "colours")
TEXTURE_ARRAYS = ("image", "uv", "unseen", "photo")
MESH_ARRAYS = ("vertices", "faces", "colours", "made_up")
OpenPass = Callable[[str], PassState]


def save_state(state: ScanState, store: ArrayStore) -> dict[str, Any]:
    """Store the arrays of a state and return its manifest (plain JSON)."""
    return {
        "passes": [_save_pass(p, store) for p in state.passes],
        "volume": _save_volume(state.volume, store),
        "mesh": _save_mesh(state.mesh, store),
        "points": state.points and _arrays(state.points, CLOUD_ARRAYS, store),
        "upright": state.upright,
        "notes": state.notes,
        "takes": [_save_take(take, store) for take in state.takes],
    }


def load_state(manifest: dict[str, Any], store: ArrayStore, open_pass: OpenPass) -> ScanState:
    """The state of a manifest; `open_pass(key)` gives a capture's pass as it was imported."""
    return ScanState(
        passes=tuple(_load_pass(p, store, open_pass) for p in manifest["passes"]),
        volume=_load_volume(manifest["volume"], store),
        mesh=load_mesh(manifest["mesh"], store),
        points=load_points(manifest.get("points"), store),
        upright=manifest["upright"],
        notes=manifest.get("notes", {}),
        takes=tuple(load_takes(manifest, store)),
    )


def stored_names(manifest: Any) -> set[str]:
    """Names of all arrays that a manifest needs from the store."""
    found: set[str] = set()
    level = [manifest]
    while level:
        value = level.pop()
        if isinstance(value, dict):
            level.extend(value.values())
        elif isinstance(value, list):
            level.extend(value)
        elif isinstance(value, str) and is_array_name(value):
            found.add(value)
    return found


def key_of_step(manifest: dict[str, Any] | None, operation: str, parameters: dict[str, Any]) -> str:
    """Names all that decides what a step gives: the state it works on, the operation with all its numbers, the program.

    Operations are pure and arrays are named by their content: two steps that share a name so made have the same result.
    """
    told = json.dumps([manifest, operation, parameters, __version__], sort_keys=True, separators=(",", ":"))
    return hashlib.blake2b(told.encode(), digest_size=20).hexdigest()


def _arrays(thing: Any, names: tuple[str, ...], store: ArrayStore) -> dict[str, str | None]:
    return {n: None if getattr(thing, n) is None else store.put(getattr(thing, n)) for n in names}


def _loaded(manifest: dict[str, Any], names: tuple[str, ...], store: ArrayStore) -> dict[str, Any]:
    return {n: None if manifest[n] is None else np.array(store.get(manifest[n])) for n in names}


def _save_pass(scan: PassState, store: ArrayStore) -> dict[str, Any]:
    table = scan.turntable
    return {
        "capture": scan.source.key,
        "title": scan.title,
        "posed": scan.posed,
        "placed": scan.placed,
        "off": scan.off,
        "noise_mm": scan.noise_mm,
        "scale": scan.scale,
        "knocked": list(scan.knocked),
        "loose": list(scan.loose),
        "cloud": _save_cloud(scan.cloud),
        "turntable": table
        and {"point": table.axis_point.tolist(), "direction": table.axis_direction.tolist(),
             "degrees": table.degrees.tolist()},
        **_arrays(scan, PASS_ARRAYS, store),
    }  # fmt: skip


def _load_pass(manifest: dict[str, Any], store: ArrayStore, open_pass: OpenPass) -> PassState:
    table = manifest["turntable"]
    scan = open_pass(manifest["capture"]).scaled(manifest.get("scale", 1.0))
    return replace(
        scan,
        cloud=_load_cloud(scan.cloud, manifest.get("cloud")),
        title=manifest["title"],
        posed=manifest["posed"],
        placed=manifest["placed"],
        off=manifest.get("off", False),
        noise_mm=manifest["noise_mm"],
        knocked=tuple(manifest.get("knocked", ())),
        loose=tuple(manifest.get("loose", ())),
        turntable=table
        and Turntable(np.array(table["point"]), np.array(table["direction"]), np.array(table["degrees"])),
        **_loaded({"scaffold": None, **manifest}, PASS_ARRAYS, store),
    )


def _save_cloud(cloud: MeasuredCloud | None) -> dict[str, Any] | None:
    """What steps changed of a pass of points; its points lie where it came in."""
    if cloud is None:
        return None
    return {"unit": cloud.unit, "unit_from": cloud.unit_from, "turned_over": cloud.turned_over}


def _load_cloud(came: MeasuredCloud | None, manifest: dict[str, Any] | None) -> MeasuredCloud | None:
    if came is None or manifest is None:
        return came
    cloud = came.in_unit(manifest["unit"], manifest["unit_from"])
    return cloud.with_other_side_out() if manifest["turned_over"] else cloud


@dataclass(frozen=True)
class StoredShape:
    """What a take fused, left in its store until it is asked for."""

    manifest: dict[str, Any]
    store: ArrayStore

    def mesh(self) -> TriangleMesh:
        return _mesh_of(self.manifest["mesh"], self.store)

    def volume(self) -> Volume | None:
        return _load_volume(self.manifest["volume"], self.store)


def _save_take(take: Take, store: ArrayStore) -> dict[str, Any]:
    shape = take.shape
    if isinstance(shape, StoredShape) and shape.store.root == store.root:
        stored = shape.manifest
    else:
        stored = {"mesh": _save_mesh(shape.mesh(), store), "volume": _save_volume(shape.volume(), store)}
    motion = None if take.is_where_it_was else take.S_object_take.tolist()
    return {"name": take.name, "told": take.told, "motion": motion, **stored}


def load_takes(manifest: dict[str, Any], store: ArrayStore) -> list[Take]:
    """The takes of a manifest; none of their arrays is read yet."""
    return [
        Take(
            t["name"],
            t["told"],
            StoredShape({"mesh": t["mesh"], "volume": t["volume"]}, store),
            np.array(t.get("motion") or np.eye(4)),
        )
        for t in manifest.get("takes", [])
    ]


def _save_volume(volume: Volume | None, store: ArrayStore) -> dict[str, Any] | None:
    if volume is None:
        return None
    figures = {"voxel_mm": volume.voxel_mm, "truncation_mm": volume.truncation_mm}
    return {**figures, **_arrays(volume, VOLUME_ARRAYS, store)}


def _load_volume(manifest: dict[str, Any] | None, store: ArrayStore) -> Volume | None:
    if manifest is None:
        return None
    arrays = _loaded(manifest, VOLUME_ARRAYS, store)
    return Volume(voxel_mm=manifest["voxel_mm"], truncation_mm=manifest["truncation_mm"], **arrays)


def _save_mesh(mesh: TriangleMesh | None, store: ArrayStore) -> dict[str, Any] | None:
    if mesh is None:
        return None
    texture = mesh.texture
    return {
        **_arrays(mesh, MESH_ARRAYS, store),
        "texture": texture
        and {
            **_arrays(texture, TEXTURE_ARRAYS, store),
            "seen": texture.seen,
            "photos": [list(p) for p in texture.photos],
        },
    }


def load_points(manifest: dict[str, Any] | None, store: ArrayStore) -> PointCloud | None:
    """The point cloud of a manifest's `points` entry."""
    return None if manifest is None else PointCloud(**_loaded(manifest, CLOUD_ARRAYS, store))


def load_mesh(manifest: dict[str, Any] | None, store: ArrayStore) -> TriangleMesh | None:
    """The mesh of a manifest's `mesh` entry."""
    return None if manifest is None else _mesh_of(manifest, store)


def _mesh_of(manifest: dict[str, Any], store: ArrayStore) -> TriangleMesh:
    t = manifest["texture"]
    texture = t and Texture(
        seen=t["seen"],
        photos=tuple((title, index) for title, index in t.get("photos", [])),
        **_loaded({"unseen": None, "photo": None, **t}, TEXTURE_ARRAYS, store),
    )
    return TriangleMesh(**_loaded(manifest, MESH_ARRAYS, store), texture=texture)
