"""Files to take away."""

import tempfile
from pathlib import Path
from typing import Any

from django.conf import settings

from lucid_relic.errors import InputError
from lucid_relic.io.meshes import MESH_FORMATS, mesh_download, write_points
from lucid_relic.io.snapshots import load_mesh, load_points
from objects.core_door.states import store

__all__ = ["MESH_FORMATS", "POINTS", "download"]

POINTS = "points"  # beside the mesh formats: the gathered points, as PLY


def download(manifest: dict[str, Any], kind: str, stem: str) -> tuple[str, Path]:
    """File name and path (in the cache) of a mesh in a format, or of the gathered points."""
    folder = settings.DATA / "cache"
    folder.mkdir(parents=True, exist_ok=True)
    if kind == POINTS:
        return _points_download(manifest, stem, folder)
    mesh = load_mesh(manifest["mesh"], store())
    if mesh is None:
        raise InputError("There is no mesh to download yet.")
    with tempfile.TemporaryDirectory(dir=folder) as scratch:
        name, data = mesh_download(mesh, kind, stem, scratch)
    path = folder / f"download-{manifest['mesh']['faces'][:16]}-{manifest['mesh']['vertices'][:16]}-{name}"
    path.write_bytes(data)
    return name, path


def _points_download(manifest: dict[str, Any], stem: str, folder: Path) -> tuple[str, Path]:
    cloud = load_points(manifest.get("points"), store())
    if cloud is None:
        raise InputError("There are no gathered points to download yet.")
    path = folder / f"download-{manifest['points']['points'][:16]}-points.ply"
    if not path.exists():
        write_points(path, cloud)
    return f"{stem}-points.ply", path
