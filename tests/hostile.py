"""Files damaged at random, and files made to harm: what reads them must refuse with a sentence, never otherwise."""

import io
import json
import random
import shutil
import struct
import zipfile
from collections.abc import Callable
from pathlib import Path

import numpy as np
from PIL import Image
from PIL.PngImagePlugin import PngInfo
from scenes import uv_sphere

from lucid_relic.errors import LucidRelicError
from lucid_relic.io.arrivals import Said, arrive, open_pass_folder
from lucid_relic.io.capture_archive import unpack_capture
from lucid_relic.io.capture_folder import CaptureFolder
from lucid_relic.io.formats.e57 import write_e57_scans
from lucid_relic.io.meshes import read_mesh, read_points, write_mesh, write_points
from lucid_relic.operations.recipe import parse_recipe
from lucid_relic.types import PointCloud, TriangleMesh

NASTY = (
    b"", b"\0", b"\xff\xfe", b"-1", b"1e999", b"10" * 200, b"NaN", b"[" * 4000, b"\\ud800", b"null", b"true", b"{}",
    b"9999999999", b"\r", b"\n\n", b"..", b"/", b"e", b"\x80" * 40,
)  # fmt: skip
SMALL_PNG = (16, 12)  # width, height of the images of the small capture


def seeds(folder: Path) -> dict[str, bytes]:
    """One good file of every kind that is read from outside, by name."""
    ball = uv_sphere(10, 6, 8)
    colours = np.full((len(ball.vertices), 3), 90, np.uint8)
    mesh = TriangleMesh(ball.vertices, ball.faces, colours)
    cloud = PointCloud(ball.vertices, mesh.vertex_normals().astype(np.float32), colours)
    out: dict[str, bytes] = {}
    for name in ("ball.stl", "ball.obj", "ball.ply", "ball.glb"):
        write_mesh(folder / name, mesh)
        out[name] = (folder / name).read_bytes()
    for name in ("points.ply", "points.xyz"):
        write_points(folder / name, cloud)
        out[name] = (folder / name).read_bytes()
    rows = "\n".join(f"{x:.3f} {y:.3f} {z:.3f}" for x, y, z in ball.vertices)
    faces = "\n".join(f"3 {a} {b} {c}" for a, b, c in ball.faces)
    counts = f"element vertex {len(ball.vertices)}\nproperty float x\nproperty float y\nproperty float z\n"
    list_head = f"element face {len(ball.faces)}\nproperty list uchar int vertex_indices\n"
    text = f"ply\nformat ascii 1.0\n{counts}{list_head}end_header\n{rows}\n{faces}\n"
    out["text.ply"] = text.encode()
    out["textpoints.ply"] = f"ply\nformat ascii 1.0\n{counts}end_header\n{rows}\n".encode()
    out["ball.off"] = f"OFF\n{len(ball.vertices)} {len(ball.faces)} 0\n{rows}\n{faces}\n".encode()
    out["recipe.json"] = json.dumps(
        {"name": "mine", "steps": [{"operation": "fuse", "parameters": {"voxel_mm": 0.5}}, {"operation": "close"}]}
    ).encode()
    out["capture.zip"] = small_capture()
    for name in ("scan.3mf", "scan.obj"):
        write_mesh(folder / name, mesh)
        out[name] = (folder / name).read_bytes()
    write_e57_scans(folder / "scan.e57", [(cloud, np.eye(4), "a"), (cloud, np.eye(4), "b")])
    out["scan.e57"] = (folder / "scan.e57").read_bytes()
    out["scan.csv"] = (
        b"x;y;z;r;g;b\n"
        + "\n".join(";".join(f"{v:g}" for v in (*p, 10, 200, 30)) for p in np.tile(ball.vertices, (3, 1))).encode()
    )
    out["scans.zip"] = _zip_of({"a.xyz": out["points.xyz"], "b.stl": out["ball.stl"]})
    out["rgbd.zip"] = _rgbd()
    return out


def _zip_of(files: dict[str, bytes]) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as bundle:
        for name, data in files.items():
            bundle.writestr(name, data)
    return out.getvalue()


def _rgbd() -> bytes:
    """A folder of tiny RGB-D images in the TUM layout."""
    depth = _image(np.full(SMALL_PNG[::-1], 1500, np.uint16), "PNG")
    return _zip_of({
        "d/1.png": depth, "d/2.png": depth, "depth.txt": b"# t\n1.0 d/1.png\n2.0 d/2.png\n",
        "groundtruth.txt": b"1.0 0 0 0 0 0 0 1\n2.0 0 0 0.1 0 0 0 1\n",
    })  # fmt: skip


def small_capture(count: int = 3, **changes: object) -> bytes:
    """A whole capture of tiny images as a .zip."""
    width, height = SMALL_PNG
    manifest = {
        "format": "lucid-relic/capture", "version": 1, "title": "upright", "depth_unit_mm": 0.02, "tracking": "none",
        "camera": {"width": width, "height": height, "fx": 20.0, "fy": 20.0, "cx": 7.5, "cy": 5.5},
        "frames": [{"depth": f"depth/{n}.png", "colour": f"colour/{n}.jpg", "time_s": n} for n in range(count)],
        **changes,
    }  # fmt: skip
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED) as bundle:
        bundle.writestr("capture.json", json.dumps(manifest))
        for n in range(count):
            bundle.writestr(f"depth/{n}.png", _image(np.full((height, width), 9000 + n, np.uint16), "PNG"))
            bundle.writestr(f"colour/{n}.jpg", _image(np.full((height, width, 3), 99, np.uint8), "JPEG"))
    return packed.getvalue()


def _image(pixels: np.ndarray, kind: str) -> bytes:
    out = io.BytesIO()
    Image.fromarray(pixels).save(out, kind)
    return out.getvalue()


def text_bomb() -> bytes:
    """A PNG whose packed text unpacks to sixty megabytes."""
    info = PngInfo()
    info.add_text("note", "x" * (60 * 2**20), zip=True)
    out = io.BytesIO()
    Image.fromarray(np.full(SMALL_PNG[::-1], 9000, np.uint16)).save(out, "PNG", pnginfo=info)
    return out.getvalue()


def mutated(data: bytes, source: random.Random) -> bytes:
    """A damaged copy: bytes flipped, cut, doubled, put in, or moved."""
    out = bytearray(data)
    for _ in range(source.choice((1, 1, 1, 2, 4, 16))):
        at = source.randrange(len(out) + 1)
        match source.randrange(8):
            case 0 if out:
                out[at % len(out)] ^= 1 << source.randrange(8)
            case 1 if out:
                out[at % len(out)] = source.randrange(256)
            case 2:
                del out[at:]
            case 3:
                del out[at : at + source.randrange(1, 64)]
            case 4:
                out[at:at] = source.choice(NASTY)
            case 5:
                out[at:at] = out[at : at + source.randrange(1, 64)]
            case 6 if len(out) > 4:
                out[at % (len(out) - 4) : at % (len(out) - 4) + 4] = struct.pack(
                    "<I", source.choice((0, 2**31, 2**32 - 1))
                )
            case _:
                word = source.choice((b"0", b"1", b"3", b".", b" ", b"vertex", b"float", b"frames", b"depth"))
                out = bytearray(bytes(out).replace(word, source.choice(NASTY), source.choice((1, -1))))
    return bytes(out)


def read_hostile(name: str, data: bytes, folder: Path) -> str | None:
    """Read a file as the program would: the sentence of the refusal, or None when it was taken."""
    try:
        _reader(name)(folder, name, data)
    except LucidRelicError as refusal:
        return str(refusal)
    return None


def _reader(name: str) -> Callable[[Path, str, bytes], object]:
    if name.startswith(("scan", "rgbd")):
        return _arrival
    if name.endswith(".zip"):
        return _capture
    if name.endswith(".json"):
        return lambda folder, name, data: parse_recipe(data, name)
    return _points if "points" in name else _mesh


def _arrival(folder: Path, name: str, data: bytes) -> None:
    (folder / name).write_bytes(data)
    try:
        for found in arrive(folder / name, folder / "arrived", Said(least_points=10)):
            open_pass_folder(found)
    finally:
        shutil.rmtree(folder / "arrived", ignore_errors=True)


def _capture(folder: Path, name: str, data: bytes) -> None:
    (folder / name).write_bytes(data)
    opened = CaptureFolder(unpack_capture(folder / name, folder / "unpacked"))
    opened.check()
    opened.as_pass()


def _mesh(folder: Path, name: str, data: bytes) -> None:
    (folder / name).write_bytes(data)
    read_mesh(folder / name)


def _points(folder: Path, name: str, data: bytes) -> None:
    (folder / name).write_bytes(data)
    read_points(folder / name)
