"""Points and previews as bytes: the length of a JSON head (u32), the head, then planar arrays.

The head of points holds count, origin (3) and step (mm), digest, and where each array lies: u16 positions (n, 3), i8
normals (n, 4), u8 sRGB colours (n, 4) and further arrays by name. The head of a preview holds its figures and layers,
and where their arrays lie. Every array begins at a multiple of four bytes.
"""

import hashlib
import json
import struct
from typing import Any

import numpy as np

from lucid_relic.errors import InputError
from lucid_relic.types import PointCloud
from lucid_relic.view.quantise import quantised

DIGEST_BYTES = 8  # of a name: two of a million clouds share one with a chance of 10⁻⁷
GREY = 200  # of a point whose colour is not known


def digest_of(points: np.ndarray) -> str:
    """A short name of an array by its content."""
    return hashlib.blake2b(np.ascontiguousarray(points).tobytes(), digest_size=DIGEST_BYTES).hexdigest()


def pack_arrays(head: dict[str, Any], arrays: dict[str, np.ndarray]) -> bytes:
    """A head and named arrays as bytes; `arrays` of the head says of each its type, shape and first byte after the head."""
    table, blob = {}, bytearray()
    for name, array in arrays.items():
        table[name] = {"type": array.dtype.str[1:], "shape": list(array.shape), "at": len(blob)}
        blob += np.ascontiguousarray(array).tobytes()
        blob += b"\0" * (-len(blob) % 4)
    text = json.dumps({**head, "arrays": table}, separators=(",", ":"), allow_nan=False).encode()
    text += b" " * (-(len(text) + 4) % 4)
    return struct.pack("<I", len(text)) + text + bytes(blob)


def unpack_arrays(data: bytes) -> tuple[dict[str, Any], dict[str, np.ndarray]]:
    """Head and arrays of what `pack_arrays` gave; raises `InputError` for anything else."""
    try:
        (length,) = struct.unpack_from("<I", data)
        head = json.loads(data[4 : 4 + length])
        arrays = {}
        for name, entry in head.pop("arrays").items():
            kind, shape = np.dtype(entry["type"]), tuple(entry["shape"])
            flat = np.frombuffer(data, kind, int(np.prod(shape)), 4 + length + entry["at"])
            arrays[name] = flat.reshape(shape)
    except (struct.error, ValueError, KeyError, TypeError, AttributeError):
        raise InputError("these are not packed arrays, or they were cut short") from None
    return head, arrays


def pack_points(cloud: PointCloud, extra: dict[str, np.ndarray], digest: str) -> bytes:
    """Points for the viewer with further arrays (n,) by name."""
    count = len(cloud)
    grid, low, step = quantised(cloud.points) if count else (np.empty((0, 3), np.uint16), np.zeros(3), 1.0)
    normals = np.zeros((count, 4), np.int8)
    if cloud.normals is not None:
        normals[:, :3] = np.round(cloud.normals * 127)
    colours = np.full((count, 4), GREY, np.uint8)
    if cloud.colours is not None:
        colours[:, :3] = cloud.colours
    head = {"count": count, "origin": low.tolist(), "step": step, "digest": digest}
    return pack_arrays(head, {"positions": grid, "normals": normals, "colours": colours, **extra})


def unpack_points(data: bytes) -> tuple[PointCloud, dict[str, np.ndarray], str]:
    """Cloud, further arrays and digest of what `pack_points` gave."""
    head, arrays = unpack_arrays(data)
    points = arrays.pop("positions") * head["step"] + np.array(head["origin"])
    normals = arrays.pop("normals")[:, :3].astype(np.float32) / 127
    cloud = PointCloud(points.astype(np.float32), normals, arrays.pop("colours")[:, :3].copy())
    return cloud, arrays, head["digest"]


def pack_preview(
    figures: dict[str, Any], layers: list[tuple[str, dict[str, Any], dict[str, np.ndarray]]], head: dict[str, Any]
) -> bytes:
    """Figures and layers (kind, facts, arrays) of a preview; `head` is added to its head."""
    named: dict[str, np.ndarray] = {}
    described = []
    for n, (kind, facts, arrays) in enumerate(layers):
        described.append({"kind": kind, **facts, "parts": list(arrays)})
        named |= {f"{n}.{name}": array for name, array in arrays.items()}
    return pack_arrays({**head, "figures": figures, "layers": described}, named)
