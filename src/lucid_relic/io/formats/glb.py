"""Binary glTF 2.0 (ISO/IEC 12113:2022): metres, y up, as the standard wants."""

import io
import json
import struct
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image

from lucid_relic.geometry.seam_split import seam_split
from lucid_relic.io.files import replacing
from lucid_relic.io.formats.base import Format, load_with_trimesh, merged, textured_mesh
from lucid_relic.light.srgb import to_linear
from lucid_relic.types import TriangleMesh

MM_TO_M = 0.001  # glTF is in metres
FLOAT, UINT, UBYTE = 5126, 5125, 5121  # component types of glTF 2.0
ARRAY, ELEMENT = 34962, 34963  # targets of buffer views in glTF 2.0
JPEG_QUALITY = 92  # of the texture: no block shows at four times its size


class _Document:
    """Collects buffer views and accessors of one binary glTF."""

    def __init__(self) -> None:
        self.blob = bytearray()
        self.views: list[dict[str, Any]] = []
        self.accessors: list[dict[str, Any]] = []

    def view(self, data: bytes, target: int | None = None) -> int:
        self.blob += b"\0" * (-len(self.blob) % 4)
        entry: dict[str, Any] = {"buffer": 0, "byteOffset": len(self.blob), "byteLength": len(data)}
        if target:
            entry["target"] = target
        self.blob += data
        self.views.append(entry)
        return len(self.views) - 1

    def accessor(self, array: np.ndarray, kind: str, component: int, target: int, **extra: Any) -> int:
        entry = {"bufferView": self.view(array.tobytes(), target), "componentType": component,
                 "count": len(array) if kind != "SCALAR" else array.size, "type": kind, **extra}  # fmt: skip
        self.accessors.append(entry)
        return len(self.accessors) - 1


@dataclass(frozen=True)
class SurfaceMaps:
    """What a reduced mesh has of a fine one: tangents (m, 3, 4) of its corners with a normal map (s, s, 3), and occlusion
    (s, s); each None when there is none."""

    tangents: np.ndarray | None = None
    normal: np.ndarray | None = None
    occlusion: np.ndarray | None = None


def glb_bytes(mesh: TriangleMesh, picture: str = "jpeg", maps: SurfaceMaps | None = None) -> bytes:
    """A mesh as binary glTF, textured (as "jpeg" or "png") or with vertex colours where it has them; maps beside the texture."""
    roughness = mesh.roughness
    mesh, uv = seam_split(mesh)
    document = _Document()
    positions = (mesh.vertices[:, [0, 2, 1]] * (np.array([1, 1, -1]) * MM_TO_M)).astype("<f4")
    normals = (mesh.vertex_normals()[:, [0, 2, 1]] * np.array([1, 1, -1])).astype("<f4")
    normals[np.linalg.norm(normals, axis=1) < 0.5] = [0, 1, 0]
    attributes = {
        "POSITION": document.accessor(
            positions, "VEC3", FLOAT, ARRAY,
            min=positions.min(axis=0).tolist(), max=positions.max(axis=0).tolist(),
        ),
        "NORMAL": document.accessor(normals, "VEC3", FLOAT, ARRAY),
    }  # fmt: skip
    material: dict[str, Any] = {"pbrMetallicRoughness": {"metallicFactor": 0, "roughnessFactor": roughness}}
    extra: dict[str, Any] = {}
    if uv is not None:
        flipped = np.stack([uv[:, 0], 1 - uv[:, 1]], axis=1).astype("<f4")
        attributes["TEXCOORD_0"] = document.accessor(flipped, "VEC2", FLOAT, ARRAY)
        material["pbrMetallicRoughness"]["baseColorTexture"] = {"index": 0}
        extra = _texture(document, mesh.texture.image, picture)
        if maps is not None:
            _add_maps(document, maps, mesh, attributes, material, extra)
    elif mesh.colours is not None:
        linear = np.round(to_linear(mesh.colours) * 65535).astype("<u2")
        padded = np.concatenate([linear, np.full((len(linear), 1), 65535, "<u2")], axis=1)
        attributes["COLOR_0"] = document.accessor(padded, "VEC4", 5123, ARRAY, normalized=True)
    indices = document.accessor(mesh.faces.astype("<u4").ravel(), "SCALAR", UINT, ELEMENT)
    primitive = {"attributes": attributes, "indices": indices, "material": 0, "mode": 4}
    return _container(document, {"materials": [material], "meshes": [{"primitives": [primitive]}], **extra})


def _texture(document: _Document, image: np.ndarray, picture: str) -> dict[str, Any]:
    encoded = io.BytesIO()
    if picture == "png":
        Image.fromarray(image).save(encoded, "PNG", compress_level=6)
    else:
        Image.fromarray(image).save(encoded, "JPEG", quality=JPEG_QUALITY, subsampling=0)
    view = document.view(encoded.getvalue())
    return {
        "images": [{"bufferView": view, "mimeType": f"image/{picture}"}],
        "samplers": [{"magFilter": 9729, "minFilter": 9987, "wrapS": 33071, "wrapT": 33071}],
        "textures": [{"source": 0, "sampler": 0}],
    }


def _add_maps(
    document: _Document, maps: SurfaceMaps, mesh: TriangleMesh, attributes: dict[str, Any],
    material: dict[str, Any], extra: dict[str, Any],
) -> None:  # fmt: skip
    """Put the maps beside the colour, and the tangents that the normal map is meant in."""
    if maps.normal is not None and maps.tangents is not None:
        tangents = np.zeros((len(mesh.vertices), 4))
        # Corners that are one in the picture have one tangent.
        tangents[mesh.faces.ravel()] = maps.tangents.reshape(-1, 4)
        turned = tangents[:, [0, 2, 1, 3]] * np.array([1, 1, -1, 1])
        attributes["TANGENT"] = document.accessor(turned.astype("<f4"), "VEC4", FLOAT, ARRAY)
        material["normalTexture"] = {"index": _add_picture(document, extra, maps.normal)}
    if maps.occlusion is not None:
        material["occlusionTexture"] = {"index": _add_picture(document, extra, maps.occlusion)}


def _add_picture(document: _Document, extra: dict[str, Any], image: np.ndarray) -> int:
    """One more texture, exact; its number."""
    encoded = io.BytesIO()
    Image.fromarray(image).save(encoded, "PNG", compress_level=6)
    extra["images"].append({"bufferView": document.view(encoded.getvalue()), "mimeType": "image/png"})
    extra["textures"].append({"source": len(extra["images"]) - 1, "sampler": 0})
    return len(extra["textures"]) - 1


def _container(document: _Document, parts: dict[str, Any]) -> bytes:
    blob = bytes(document.blob) + b"\0" * (-len(document.blob) % 4)
    tree = {
        "asset": {"version": "2.0", "generator": "Lucid Relic"},
        "scene": 0,
        "scenes": [{"nodes": [0]}],
        "nodes": [{"mesh": 0}],
        **parts,
        "accessors": document.accessors,
        "bufferViews": document.views,
        "buffers": [{"byteLength": len(blob)}],
    }
    text = json.dumps(tree, separators=(",", ":")).encode()
    text += b" " * (-len(text) % 4)
    total = 12 + 8 + len(text) + 8 + len(blob)
    head = struct.pack("<4sII", b"glTF", 2, total) + struct.pack("<I4s", len(text), b"JSON")
    return head + text + struct.pack("<I4s", len(blob), b"BIN\0") + blob


def write_glb(path: Path, mesh: TriangleMesh, picture: str = "jpeg", maps: SurfaceMaps | None = None) -> list[Path]:
    """Write a mesh as a binary glTF file, its texture as "jpeg" or "png", maps beside it."""
    data = glb_bytes(mesh, picture, maps)
    with replacing(path) as out:
        out.write(data)
    return [path]


def read_glb(path: Path) -> TriangleMesh:
    """Read a mesh, turned back to z up and millimetres; corners at the same place become one vertex."""
    loaded = load_with_trimesh(path, "glb")
    mesh = textured_mesh(loaded)
    vertices = np.asarray(loaded.vertices)[:, [0, 2, 1]] * [1, -1, 1] * (1 / MM_TO_M)
    return merged(replace(mesh, vertices=vertices.astype(np.float32)))


GLB = Format(
    name="glb",
    suffixes=("glb",),
    help="with texture, metres, Y up",
    carries=frozenset({"shape", "colours", "normals", "texture", "unit"}),
    read_mesh=read_glb,
    write_mesh=write_glb,
    unit="mm",
)
