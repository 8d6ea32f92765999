"""Meshes for the viewer: meshopt-compressed GLB.

The GLB uses KHR_mesh_quantization and EXT_meshopt_compression; the node's scale and translation
bring positions back to millimetres, z up (it is for our own viewer, not for export). It holds one
primitive of measured triangles and, when there are any, one of made-up triangles.
"""

import io
import json
import struct
from typing import Any

import meshopt
import numpy as np
from PIL import Image

from lucid_relic.geometry.seam_split import seam_split
from lucid_relic.types import TriangleMesh
from lucid_relic.view.quantise import quantised

TEXTURE_QUALITY = 90  # of JPEG: for looking at, not for delivery


def view_glb(mesh: TriangleMesh) -> bytes:
    """A mesh for the viewer."""
    mesh, uv = seam_split(mesh)
    writer = _Compressed()
    grid, low, step = quantised(mesh.vertices)
    count = len(grid)
    normals = np.round(mesh.vertex_normals() * 127).astype(np.int8)
    attributes = {
        "POSITION": writer.vertices(_wide(grid), 5123, "VEC3", count, False,
                                    min=grid.min(axis=0).tolist(), max=grid.max(axis=0).tolist()),
        "NORMAL": writer.vertices(_wide(normals), 5120, "VEC3", count, True),
    }  # fmt: skip
    if mesh.colours is not None:
        opaque = np.concatenate([mesh.colours, np.full((count, 1), 255, np.uint8)], axis=1)
        attributes["_SRGB"] = writer.vertices(opaque, 5121, "VEC4", count, True)
    extra: dict[str, Any] = {}
    if uv is not None:
        flipped = np.stack([uv[:, 0], 1 - uv[:, 1]], axis=1)
        attributes["TEXCOORD_0"] = writer.vertices(
            np.round(np.clip(flipped, 0, 1) * 65535).astype(np.uint16), 5123, "VEC2", count, True
        )
    made_up = mesh.made_up if mesh.made_up is not None else np.zeros(len(mesh.faces), bool)
    primitives = []
    for flag in (False, True):
        faces = mesh.faces[made_up == flag]
        if len(faces):
            primitives.append({"attributes": attributes, "indices": writer.indices(faces), "material": int(flag)})
    if uv is not None:
        extra = writer.image(mesh.texture.image)
    node = {"mesh": 0, "translation": low.tolist(), "scale": [step] * 3}
    return writer.container(node, primitives, extra)


def _wide(values: np.ndarray) -> np.ndarray:
    """Three columns padded to four, as meshopt wants strides of a multiple of 4 bytes."""
    return np.concatenate([values, np.zeros((len(values), 1), values.dtype)], axis=1)


class _Compressed:
    """Collects meshopt-compressed buffer views."""

    def __init__(self) -> None:
        self.blob = bytearray()
        self.views: list[dict[str, Any]] = []
        self.accessors: list[dict[str, Any]] = []
        self.fallback = 0

    def _view(self, data: bytes) -> dict[str, Any]:
        self.blob += b"\0" * (-len(self.blob) % 4)
        entry = {"buffer": 0, "byteOffset": len(self.blob), "byteLength": len(data)}
        self.blob += data
        return entry

    def _packed(self, data: bytes, stride: int, count: int, mode: str) -> int:
        source = self._view(data)
        size = stride * count
        view = {"buffer": 1, "byteOffset": self.fallback, "byteLength": size,
                "extensions": {"EXT_meshopt_compression": {
                    **source, "byteStride": stride, "mode": mode, "count": count}}}  # fmt: skip
        if mode == "ATTRIBUTES":
            view["byteStride"] = stride
        self.fallback += size + (-size % 4)
        self.views.append(view)
        return len(self.views) - 1

    def vertices(self, rows: np.ndarray, component: int, kind: str, count: int, normalised: bool, **extra: Any) -> int:
        raw = np.ascontiguousarray(rows)
        view = self._packed(meshopt.encode_vertex_buffer(raw), raw.itemsize * raw.shape[1], count, "ATTRIBUTES")
        self.accessors.append({"bufferView": view, "componentType": component, "count": count,
                               "type": kind, "normalized": normalised, **extra})  # fmt: skip
        return len(self.accessors) - 1

    def indices(self, faces: np.ndarray) -> int:
        flat = np.ascontiguousarray(faces, np.uint32).ravel()
        view = self._packed(meshopt.encode_index_buffer(flat), 4, len(flat), "TRIANGLES")
        self.accessors.append({"bufferView": view, "componentType": 5125, "count": len(flat), "type": "SCALAR"})
        return len(self.accessors) - 1

    def image(self, image: np.ndarray) -> dict[str, Any]:
        encoded = io.BytesIO()
        Image.fromarray(image).save(encoded, "JPEG", quality=TEXTURE_QUALITY)
        self.views.append(self._view(encoded.getvalue()))
        return {
            "images": [{"bufferView": len(self.views) - 1, "mimeType": "image/jpeg"}],
            "textures": [{"source": 0}],
        }

    def container(self, node: dict[str, Any], primitives: list[dict[str, Any]], extra: dict[str, Any]) -> bytes:
        blob = bytes(self.blob) + b"\0" * (-len(self.blob) % 4)
        surface: dict[str, Any] = {"metallicFactor": 0, "roughnessFactor": 0.9}
        if extra:
            surface["baseColorTexture"] = {"index": 0}
        used = ["EXT_meshopt_compression", "KHR_mesh_quantization"]
        tree = {
            "asset": {"version": "2.0", "generator": "Lucid Relic"},
            "extensionsUsed": used, "extensionsRequired": used,
            "scene": 0, "scenes": [{"nodes": [0]}], "nodes": [node],
            "meshes": [{"primitives": primitives}],
            "materials": [{"name": "measured", "pbrMetallicRoughness": surface},
                          {"name": "made up", "pbrMetallicRoughness": surface}],
            **extra,
            "accessors": self.accessors, "bufferViews": self.views,
            "buffers": [{"byteLength": len(blob)},
                        {"byteLength": max(self.fallback, 4),
                         "extensions": {"EXT_meshopt_compression": {"fallback": True}}}],
        }  # fmt: skip
        text = json.dumps(tree, separators=(",", ":")).encode()
        text += b" " * (-len(text) % 4)
        total = 28 + len(text) + len(blob)
        head = struct.pack("<4sII", b"glTF", 2, total) + struct.pack("<I4s", len(text), b"JSON")
        return head + text + struct.pack("<I4s", len(blob), b"BIN\0") + blob
