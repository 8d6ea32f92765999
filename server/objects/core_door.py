"""The only door to the core: everything the server asks of `lucid_relic` goes through here."""

import shutil
import tempfile
import time
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from django.conf import settings
from PIL import Image

from lucid_relic.capture.virtual import ScannerTraits, TurntablePlan, VirtualScanner
from lucid_relic.demo.objects import DEMO_OBJECTS, demo_model
from lucid_relic.errors import Cancelled, InputError, LucidRelicError
from lucid_relic.geometry.pass_points import frame_points, pass_points
from lucid_relic.view.picture import picture_of_mesh, picture_of_points
from lucid_relic.geometry.points import thin
from lucid_relic.geometry.rigid import transform_points
from lucid_relic.inspection.summary import findings, summarise_state
from lucid_relic.io.array_store import ArrayStore
from lucid_relic.io.capture_folder import CaptureFolder, CaptureWriter, unpack_capture
from lucid_relic.io.for_view import view_glb, view_points
from lucid_relic.io.meshes import MESH_FORMATS, mesh_download, write_points
from lucid_relic.io.results import finite
from lucid_relic.io.snapshots import load_mesh, load_points, load_state, save_state
from lucid_relic.operations import get_operation, list_operations
from lucid_relic.operations.clean import pixel_spacing
from lucid_relic.operations.recipe import BUILT_IN, built_in
from lucid_relic.progress import Progress
from lucid_relic.types import PassState, PointCloud, ScanState

__all__ = ["Cancelled", "InputError", "LucidRelicError", "MESH_FORMATS", "DEMO_OBJECTS", "Progress"]

PICTURE_SIZE = 360
LIVE_POINTS = 6000
POINTS = "points"
PASS_POINTS = 400_000


def store() -> ArrayStore:
    """The content-addressed store of this installation."""
    return ArrayStore(settings.DATA / "store")


def capture_path(key: str) -> Path:
    """Folder of a capture."""
    return settings.DATA / "captures" / key


def open_pass(key: str) -> PassState:
    """A capture's pass as it was taken or imported."""
    return CaptureFolder(capture_path(key), key).as_pass()


def load(manifest: dict[str, Any] | None) -> ScanState:
    """The state of a snapshot's manifest; an empty one for None."""
    return ScanState() if manifest is None else load_state(manifest, store(), open_pass)


def save(state: ScanState) -> tuple[dict[str, Any], dict[str, Any], list[dict[str, Any]]]:
    """Manifest, summary and findings of a state, its arrays stored."""
    summary = finite(summarise_state(state))
    return finite(save_state(state, store())), summary, finite(findings(summary))


def run_operation(
    state: ScanState, name: str, parameters: dict[str, Any], progress: Progress
) -> tuple[ScanState, dict[str, Any], float]:
    """Run one operation; returns the new state, its report and the seconds it took."""
    operation = get_operation(name)
    params = operation.parameters.from_dict(parameters)
    started = time.perf_counter()
    state, report = operation.run(state, params, progress)
    return state, finite(report), time.perf_counter() - started


def check_operation(name: str, parameters: dict[str, Any]) -> dict[str, Any]:
    """Title, stage and full parameters of an operation; raises `ParameterError` for a wrong one."""
    operation = get_operation(name)
    full = operation.parameters.from_dict(parameters).as_dict()
    return {"operation": name, "title": operation.title, "stage": operation.stage, "parameters": full}


def operations() -> list[dict[str, Any]]:
    """All operations with what a form needs."""
    return [
        {"name": o.name, "title": o.title, "stage": o.stage, "help": o.help, "parameters": o.parameters.describe()}
        for o in list_operations()
    ]  # fmt: skip


def recipes() -> list[dict[str, Any]]:
    """The built-in recipes."""
    out = []
    for name in BUILT_IN:
        recipe = built_in(name)
        steps = [{"operation": s.operation, "parameters": s.parameters} for s in recipe.steps]
        out.append({"name": name, "title": recipe.title, "help": recipe.help, "steps": steps})
    return out


def import_capture(archive: Path, key: str, progress: Progress) -> tuple[str, int]:
    """Unpack and check an uploaded .zip; returns title and frame count, leaves nothing when refused."""
    target = capture_path(key)
    target.parent.mkdir(parents=True, exist_ok=True)
    try:
        unpack_capture(archive, target, lambda f, m: progress(0.5 * f, m))
        folder = CaptureFolder(target, key)
        folder.check(lambda f, m: progress(0.5 + 0.5 * f, m))
    except BaseException:
        shutil.rmtree(target, ignore_errors=True)
        raise
    return folder.manifest.title, len(folder.manifest.frames)


def shoot_turntable(model_name: str, plan: dict[str, Any], seed: int, key: str) -> Iterator[int]:
    """Run the virtual turntable into a capture folder, yielding the number of frames after each one."""
    demo = DEMO_OBJECTS.get(model_name)
    traits = demo.traits if demo else ScannerTraits()
    device = VirtualScanner(demo_model(model_name), TurntablePlan(**plan), traits, seed)
    writer = CaptureWriter(capture_path(key), device.manifest())
    for index in range(device.frame_count()):
        shot = device.shoot(index)
        writer.add(shot.depth, shot.colour, clipped=round(shot.clipped, 4), **shot.fields)
        writer.flush()
        yield index + 1


def prepare_model(model_name: str) -> None:
    """Build a demo object's model now, so that its first pass starts at once."""
    demo_model(model_name)


def with_new_pass(state: ScanState, key: str) -> ScanState:
    """The state with a capture added as its last pass."""
    scan = open_pass(key)
    if not state.passes:
        scan = replace(scan, placed=True)
    return replace(state, passes=(*state.passes, scan))


def drop_capture(key: str) -> None:
    """Delete a capture's folder."""
    shutil.rmtree(capture_path(key), ignore_errors=True)


def live_points(key: str, index: int) -> bytes:
    """One frame's thinned points, upright on the table, for the live view."""
    scan = open_pass(key)
    cloud = frame_points(scan, index, False, True, 2.5 * pixel_spacing(scan))
    return view_points(_placed(scan, _at_most(cloud, LIVE_POINTS)))


def pass_cloud(manifest: dict[str, Any], number: int) -> bytes:
    """A pass's points in the object's frame, for the viewer; made once and kept."""
    entry = manifest["passes"][number]
    name = "-".join(str(entry[k])[:12] for k in ("capture", "frame_poses", "frame_in", "keep", "T_object_pass"))
    return _kept(f"pass-{name}.points", lambda: _pass_cloud(manifest, number))


def _pass_cloud(manifest: dict[str, Any], number: int) -> bytes:
    scan = load({**manifest, "volume": None, "mesh": None}).passes[number]
    cloud = pass_points(scan, 1.1 * pixel_spacing(scan), coloured=True)
    return view_points(_placed(scan, _at_most(cloud, PASS_POINTS)))


def _placed(scan: PassState, cloud: PointCloud) -> PointCloud:
    """Points of a pass in the object's frame."""
    turn = scan.T_object_pass[:3, :3].astype(np.float32)
    return PointCloud(transform_points(scan.T_object_pass, cloud.points), cloud.normals @ turn.T, cloud.colours)


def _at_most(cloud: PointCloud, limit: int) -> PointCloud:
    voxel = 0.2
    while len(cloud) > limit:
        cloud, voxel = thin(cloud, voxel), voxel * 1.3
    return cloud


def mesh_glb(manifest: dict[str, Any]) -> bytes:
    """A snapshot's mesh for the viewer; made once and kept."""
    entry = manifest["mesh"]
    if entry is None:
        raise InputError("This state has no mesh yet.")
    texture = (entry["texture"] or {}).get("image", "plain")
    name = f"mesh-{entry['vertices'][:16]}-{entry['faces'][:16]}-{texture[:16]}.glb"
    return _kept(name, lambda: view_glb(load_mesh(entry, store())))


def _kept(name: str, make: Callable[[], bytes]) -> bytes:
    path = settings.DATA / "cache" / name
    if not path.exists():
        path.parent.mkdir(parents=True, exist_ok=True)
        data = make()
        scratch = Path(tempfile.mkstemp(dir=path.parent)[1])
        scratch.write_bytes(data)
        scratch.replace(path)
    return path.read_bytes()


def download(manifest: dict[str, Any], kind: str, stem: str) -> tuple[str, Path]:
    """File name and path (in the cache) of a mesh in a format."""
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


def write_picture(manifest: dict[str, Any], path: Path) -> None:
    """Draw a snapshot for the shelf."""
    path.parent.mkdir(parents=True, exist_ok=True)
    mesh = load_mesh(manifest["mesh"], store())
    if mesh is not None:
        image = picture_of_mesh(mesh, PICTURE_SIZE)
    else:
        scan = load({**manifest, "volume": None, "mesh": None}).passes[0]
        cloud = pass_points(scan, 2 * pixel_spacing(scan), frames=scan.frames_used()[::2], coloured=True)
        image = picture_of_points(_placed(scan, cloud), PICTURE_SIZE)
    Image.fromarray(image).save(path, optimize=True)
