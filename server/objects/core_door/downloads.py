"""Files to take away."""

import hashlib
import os
import re
import tempfile
from pathlib import Path
from typing import Any

from lucid_relic.errors import InputError
from lucid_relic.geometry.pass_points import came_points, pass_points
from lucid_relic.geometry.spacing import pixel_spacing
from lucid_relic.inspection.summary import ADJUST, ROUGHNESS
from lucid_relic.io.capture_archive import zip_folder
from lucid_relic.io.delivered import delivered
from lucid_relic.io.formats import named_format
from lucid_relic.io.meshes import MESH_FORMATS, mesh_download, write_points
from lucid_relic.io.snapshots import load_mesh, load_points
from objects.core_door.cache import made
from objects.core_door.folders import capture_path
from objects.core_door.states import load_shown, store
from objects.core_door.views import pass_file

__all__ = ["MESH_FORMATS", "PASS_KINDS", "POINTS", "download_file", "download_name", "make_download"]

PASS_KINDS = (
    "ply",
    "xyz",
    "e57",
    "capture",
)  # what a pass is taken away as: points in the object's frame, or its folder
POINTS = "points"  # beside the mesh formats: the gathered points, as PLY


def download_name(manifest: dict[str, Any], kind: str, stem: str) -> str:
    """Name that a file to take away gets; raises `InputError` when the state has none of that kind."""
    if kind == POINTS:
        if manifest.get("points") is None:
            raise InputError("There are no gathered points to download yet.")
        return f"{stem}-points.ply"
    if manifest["mesh"] is None:
        raise InputError("There is no mesh to download yet.")
    zipped = kind == "obj" and manifest["mesh"]["texture"]
    return f"{stem}-{kind}.zip" if zipped else f"{stem}.{named_format(kind).suffixes[0]}"


def download_file(manifest: dict[str, Any], kind: str, stem: str) -> str:
    """Name in the cache of a file to take away; a zipped one carries the stem inside."""
    name = download_name(manifest, kind, stem)
    if kind == POINTS:
        return f"download-{manifest['points']['points'][:16]}-points.ply"
    mesh = manifest["mesh"]
    notes = manifest.get("notes", {})
    told = hashlib.blake2b(repr((notes.get(ADJUST), notes.get(ROUGHNESS))).encode(), digest_size=6).hexdigest()
    parts = [mesh["faces"], mesh["vertices"], mesh["made_up"], (mesh["texture"] or {}).get("image"), told]
    return "-".join(["download", *(str(part)[:12] for part in parts), name])


def make_download(manifest: dict[str, Any], kind: str, stem: str) -> Path:
    """A mesh in a format, or the gathered points, as a file in the cache."""
    return made(download_file(manifest, kind, stem), lambda path: _write(manifest, kind, stem, path))


def pass_download_name(manifest: dict[str, Any], number: int, kind: str, stem: str) -> str:
    """Name that a pass to take away gets; raises `InputError` when it has none of that kind."""
    entry = manifest["passes"][number]
    if kind == "capture" and entry.get("cloud"):
        raise InputError(f"“{entry['title']}” came as points; take it away as PLY, XYZ or E57.")
    title = re.sub(r"[^A-Za-z0-9]+", "-", entry["title"]).strip("-").lower() or f"pass-{number + 1}"
    return f"{stem}-{title}.{'zip' if kind == 'capture' else kind}"


def pass_download_file(manifest: dict[str, Any], number: int, kind: str) -> str:
    """Name in the cache of a pass to take away."""
    return f"download-{pass_file(manifest['passes'][number])}.{kind}"


def make_pass_download(manifest: dict[str, Any], number: int, kind: str) -> Path:
    """A pass as a file in the cache: its kept points where they lie on the object, or its capture folder as a .zip."""
    return made(pass_download_file(manifest, number, kind), lambda path: _write_pass(manifest, number, kind, path))


def _write_pass(manifest: dict[str, Any], number: int, kind: str, path: Path) -> None:
    scan = load_shown(manifest).passes[number]
    if kind == "capture":
        zip_folder(capture_path(scan.source.key), path)
        return
    cloud = (
        pass_points(scan, pixel_spacing(scan), coloured=True) if scan.cloud is None else came_points(scan, True, True)
    )
    written = path.with_suffix(f".{kind}")
    write_points(written, cloud.transformed(scan.T_object_pass))
    os.replace(written, path)


def _write(manifest: dict[str, Any], kind: str, stem: str, path: Path) -> None:
    with tempfile.TemporaryDirectory(dir=path.parent) as scratch:
        if kind == POINTS:
            written = Path(scratch) / "points.ply"
            write_points(written, load_points(manifest["points"], store()))
        else:
            mesh = delivered(load_mesh(manifest["mesh"], store()), manifest.get("notes", {}))
            name, data = mesh_download(mesh, kind, stem, scratch)
            written = Path(scratch) / name
            written.write_bytes(data)
        os.replace(written, path)
