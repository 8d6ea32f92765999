"""What the viewer gets of a snapshot or a capture: made once by the live service, kept in the cache."""

import hashlib
from collections import OrderedDict
from functools import partial
from pathlib import Path
from typing import Any

from PIL import Image

from lucid_relic.capture.instruments import instrument
from lucid_relic.desk.unanswered import packed_unanswered
from lucid_relic.errors import InputError
from lucid_relic.io.capture_folder import CaptureFolder
from lucid_relic.io.delivered import delivered
from lucid_relic.io.snapshots import load_mesh
from lucid_relic.types import PassState, ScanState
from lucid_relic.view.glance import MOST_GLANCED, glanced
from lucid_relic.view.mesh_view import view_glb
from lucid_relic.view.pass_view import PassView, frame_view, know_view, pass_view
from lucid_relic.view.picture import picture_of_mesh, picture_of_points
from lucid_relic.view.shift import packed_shift
from objects.core_door.cache import cached, made
from objects.core_door.captures import is_whole
from objects.core_door.folders import capture_path, frame_file, shown_path, while_it_settles
from objects.core_door.states import load_shown, store

PICTURE_SIZE = 360  # pixels a side of a picture on the shelf, at twice the size it is shown
PASS_FACTS = (
    "capture",
    "frame_poses",
    "frame_in",
    "keep",
    "scaffold",
    "T_object_pass",
)  # what the points of a pass follow from
POINTS_KIND = 2  # counted up when the points of a pass are written otherwise, so that older files are not read
USUAL = "desk"  # what a pass is judged as that names no instrument
FOLDERS_HELD = 8  # whole captures whose parsed manifests are held
_folders: OrderedDict[str, CaptureFolder] = OrderedDict()


def pass_file(entry: dict[str, Any]) -> str:
    """Name in the cache of the points of a pass's entry in a manifest."""
    came = entry.get("cloud")
    turned = f"-{came['unit']}-{came['turned_over']:d}" if came else ""
    if entry.get("scale", 1.0) != 1.0:
        turned += f"-{entry['scale']!r}"
    return f"pass{POINTS_KIND}-" + "-".join(str(entry.get(k))[:12] for k in PASS_FACTS) + f"{turned}.points"


def mesh_entry(manifest: dict[str, Any]) -> dict[str, Any]:
    """The mesh in a manifest; raises `InputError` when there is none."""
    entry: dict[str, Any] | None = manifest["mesh"]
    if entry is None:
        raise InputError("This state has no mesh yet.")
    return entry


def mesh_file(entry: dict[str, Any]) -> str:
    """Name in the cache of a manifest's mesh as the viewer gets it."""
    texture = (entry["texture"] or {}).get("image", "plain")
    return f"mesh-{entry['vertices'][:16]}-{entry['faces'][:16]}-{texture[:16]}.glb"


def wants_glance(triangles: int) -> bool:
    """Whether a mesh is so large that the viewer shows it at a glance before all of it is there."""
    return triangles > MOST_GLANCED


def glance_file(entry: dict[str, Any]) -> str:
    """Name in the cache of a manifest's mesh at a glance."""
    return f"glance-{mesh_file(entry)}"


def picture_file(snapshot: str) -> str:
    """Name in the cache of the shelf picture of a snapshot."""
    return f"picture-{snapshot}.png"


def shown_file(name: str) -> Path | None:
    """A file of the cache that was made already, or None."""
    path = cached(name)
    return path if path.exists() else None


def make_pass(manifest: dict[str, Any], number: int) -> Path:
    """A pass's points in the object's frame, for the viewer."""
    points = pass_file(manifest["passes"][number])
    return made(points, lambda path: path.write_bytes(pass_view(load_shown(manifest).passes[number]).packed()))


def know_views(manifest: dict[str, Any], state: ScanState) -> None:
    """Take the points of a state's passes from the files of the cache: they are the very ones that the viewer shows."""
    for entry, scan in zip(manifest["passes"], state.passes, strict=True):
        path = made(pass_file(entry), partial(_write_points, scan))
        know_view(scan, PassView.unpacked(path.read_bytes()))


def _write_points(scan: PassState, path: Path) -> None:
    path.write_bytes(pass_view(scan).packed())


def unanswered_file(entry: dict[str, Any], index: int, instrument: str) -> str:
    """Name in the cache of what gave no answer in a frame of a pass's entry in a manifest, as an instrument is judged."""
    return f"unanswered-{pass_file(entry)}-{index}-{instrument or USUAL}"


def make_unanswered(manifest: dict[str, Any], number: int, index: int, named: str) -> Path:
    """What gave no answer in a frame of a pass that an instrument of that name took, for the viewer."""

    def write(path: Path) -> None:
        path.write_bytes(packed_unanswered(load_shown(manifest).passes[number], index, instrument(named or USUAL)))

    return made(unanswered_file(manifest["passes"][number], index, named), write)


def shift_file(manifest: dict[str, Any], number: int) -> str:
    """Name in the cache of how far a pass of a manifest lies off the others: it follows from all of them."""
    facts = [(pass_file(p), p["placed"], p.get("off", False)) for p in manifest["passes"]]
    return f"shift-{hashlib.blake2b(repr((number, facts)).encode(), digest_size=16).hexdigest()}.shift"


def make_shift(manifest: dict[str, Any], number: int) -> Path:
    """How far a pass lies off the others, for the viewer."""

    def write(path: Path) -> None:
        state = load_shown(manifest)
        know_views(manifest, state)
        path.write_bytes(packed_shift(state, number))

    return made(shift_file(manifest, number), write)


def make_mesh(manifest: dict[str, Any]) -> Path:
    """A snapshot's mesh for the viewer."""
    entry = mesh_entry(manifest)
    return made(mesh_file(entry), lambda path: path.write_bytes(view_glb(load_mesh(entry, store()))))


def make_glance(manifest: dict[str, Any]) -> Path:
    """A snapshot's mesh at a glance, for the viewer."""
    entry = mesh_entry(manifest)
    return made(glance_file(entry), lambda path: path.write_bytes(view_glb(glanced(load_mesh(entry, store())))))


def make_frame(key: str, index: int) -> Path:
    """One frame's thinned points, upright on the table, for the live view."""
    packed = lambda _: frame_view(_folder(key).as_pass(), index).packed()  # noqa: E731
    return made(frame_file(key, index), lambda path: path.write_bytes(while_it_settles(key, packed)))


def make_picture(manifest: dict[str, Any], snapshot: str) -> Path:
    """Draw a snapshot for the shelf."""
    return made(picture_file(snapshot), lambda path: _draw(manifest, path))


def _draw(manifest: dict[str, Any], path: Path) -> None:
    mesh = load_mesh(manifest["mesh"], store())
    if mesh is not None:
        image = picture_of_mesh(delivered(mesh.without_texture(), manifest.get("notes", {})), PICTURE_SIZE)
    elif manifest["passes"]:
        image = picture_of_points(pass_view(load_shown(manifest).passes[0]).cloud, PICTURE_SIZE)
    else:
        raise InputError("There is nothing to draw yet.")
    Image.fromarray(image).save(path, "PNG", optimize=True)


def photograph(key: str, index: int) -> Path | None:
    """The photograph of a frame, under whatever name its manifest gives it; None when the frame has none."""
    folder = _folder(key)
    frames = folder.manifest.frames
    name = frames[index].colour if index < len(frames) else None
    path = None if name is None else folder.root / name
    return path if path is not None and path.is_file() else None


def _folder(key: str) -> CaptureFolder:
    """A capture with its manifest parsed; that of a whole one is held."""
    if not is_whole(key):
        return CaptureFolder(shown_path(key), key)
    if key not in _folders:
        _folders[key] = CaptureFolder(capture_path(key), key)
    _folders.move_to_end(key)
    while len(_folders) > FOLDERS_HELD:
        _folders.popitem(last=False)
    return _folders[key]
