"""What the viewer gets of a snapshot or a capture: made once, kept in the cache, named by its content."""

import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

from django.conf import settings
from PIL import Image

from lucid_relic.errors import InputError
from lucid_relic.io.snapshots import load_mesh
from lucid_relic.types import PointCloud
from lucid_relic.view.mesh_view import view_glb
from lucid_relic.view.pass_view import frame_view, pass_view
from lucid_relic.view.picture import picture_of_mesh, picture_of_points
from objects.core_door.captures import open_pass
from objects.core_door.states import load_shown, store

PICTURE_SIZE = 360  # pixels a side of a picture on the shelf, at twice the size it is shown
PASS_FACTS = ("capture", "frame_poses", "frame_in", "keep", "T_object_pass")  # what the points of a pass follow from


def live_points(key: str, index: int) -> bytes:
    """One frame's thinned points, upright on the table, for the live view."""
    return frame_view(open_pass(key), index).packed()


def pass_cloud(manifest: dict[str, Any], number: int) -> bytes:
    """A pass's points in the object's frame, for the viewer; made once and kept."""
    return kept(pass_file(manifest["passes"][number]), lambda: pass_view(load_shown(manifest).passes[number]).packed())


def pass_file(entry: dict[str, Any]) -> str:
    """Name in the cache of the points of a pass's entry in a manifest."""
    return "pass-" + "-".join(str(entry[k])[:12] for k in PASS_FACTS) + ".points"


def mesh_glb(manifest: dict[str, Any]) -> bytes:
    """A snapshot's mesh for the viewer; made once and kept."""
    entry = manifest["mesh"]
    if entry is None:
        raise InputError("This state has no mesh yet.")
    texture = (entry["texture"] or {}).get("image", "plain")
    name = f"mesh-{entry['vertices'][:16]}-{entry['faces'][:16]}-{texture[:16]}.glb"
    return kept(name, lambda: view_glb(load_mesh(entry, store())))


def kept(name: str, make: Callable[[], bytes]) -> bytes:
    """The content of a file of the cache, made when it is not there; never seen half written."""
    path = settings.DATA / "cache" / name
    if not path.exists():
        path.parent.mkdir(parents=True, exist_ok=True)
        data = make()
        scratch = Path(tempfile.mkstemp(dir=path.parent)[1])
        scratch.write_bytes(data)
        scratch.replace(path)
    return path.read_bytes()


def write_picture(manifest: dict[str, Any], path: Path) -> None:
    """Draw a snapshot for the shelf."""
    path.parent.mkdir(parents=True, exist_ok=True)
    mesh = load_mesh(manifest["mesh"], store())
    if mesh is not None:
        image = picture_of_mesh(mesh, PICTURE_SIZE)
    else:
        cloud: PointCloud = pass_view(load_shown(manifest).passes[0]).cloud
        image = picture_of_points(cloud, PICTURE_SIZE)
    Image.fromarray(image).save(path, optimize=True)
