"""Files to take away."""

import os
import tempfile
from pathlib import Path
from typing import Any

from lucid_relic.errors import InputError
from lucid_relic.io.formats import named_format
from lucid_relic.io.meshes import MESH_FORMATS, mesh_download, write_points
from lucid_relic.io.snapshots import load_mesh, load_points
from objects.core_door.cache import made
from objects.core_door.states import store

__all__ = ["MESH_FORMATS", "POINTS", "download_file", "download_name", "make_download"]

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
    parts = [mesh["faces"], mesh["vertices"], mesh["made_up"], (mesh["texture"] or {}).get("image")]
    return "-".join(["download", *(str(part)[:12] for part in parts), name])


def make_download(manifest: dict[str, Any], kind: str, stem: str) -> Path:
    """A mesh in a format, or the gathered points, as a file in the cache."""
    return made(download_file(manifest, kind, stem), lambda path: _write(manifest, kind, stem, path))


def _write(manifest: dict[str, Any], kind: str, stem: str, path: Path) -> None:
    with tempfile.TemporaryDirectory(dir=path.parent) as scratch:
        if kind == POINTS:
            written = Path(scratch) / "points.ply"
            write_points(written, load_points(manifest["points"], store()))
        else:
            name, data = mesh_download(load_mesh(manifest["mesh"], store()), kind, stem, scratch)
            written = Path(scratch) / name
            written.write_bytes(data)
        os.replace(written, path)
