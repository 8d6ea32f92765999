"""PLY (Turk 1994): read as text and binary both ways, written binary little-endian with colours and the made-up flag."""

import re
from pathlib import Path
from typing import Any

import numpy as np
import trimesh

from lucid_relic.errors import InputError
from lucid_relic.io.files import replacing
from lucid_relic.io.formats.base import Format, ScanOfFile, finite_points, load_with_trimesh, near_origin, textured_mesh
from lucid_relic.types import PointCloud, TriangleMesh

POSITION = [("x", "<f4"), ("y", "<f4"), ("z", "<f4")]
NORMAL = [("nx", "<f4"), ("ny", "<f4"), ("nz", "<f4")]
COLOUR = [("red", "u1"), ("green", "u1"), ("blue", "u1")]
MAX_HEADER = 64 * 1024  # bytes
ELEMENT = re.compile(rb"^element +(\w+) +(\d{1,12})\s*$", re.MULTILINE)
TYPE_BYTES = {
    b"char": 1, b"uchar": 1, b"int8": 1, b"uint8": 1, b"short": 2, b"ushort": 2, b"int16": 2, b"uint16": 2, b"int": 4,
    b"uint": 4, b"int32": 4, b"uint32": 4, b"float": 4, b"float32": 4, b"double": 8, b"float64": 8,
}  # fmt: skip
PLY_TYPE = {"<f4": "float", "u1": "uchar", "<i4": "int"}


def write_ply_mesh(path: Path, mesh: TriangleMesh) -> list[Path]:
    """Write a mesh; vertices with colours where known, faces with `made_up` (0/1) where known."""
    vertex = _vertices(mesh.vertices, None, mesh.colours)
    flags = [("made_up", "u1")] if mesh.made_up is not None else []
    face = np.empty(len(mesh.faces), [("n", "u1"), ("v", "<i4", 3), *flags])
    face["n"] = 3
    face["v"] = mesh.faces
    header = _header(vertex) + f"element face {len(face)}\nproperty list uchar int vertex_indices\n"
    if flags:
        face["made_up"] = mesh.made_up
        header += "property uchar made_up\n"
    _write(path, header, vertex, face)
    return [path]


def write_ply_points(path: Path, cloud: PointCloud) -> None:
    """Write points with normals and colours where known."""
    vertex = _vertices(cloud.points, cloud.normals, cloud.colours)
    _write(path, _header(vertex), vertex)


def _vertices(points: np.ndarray, normals: np.ndarray | None, colours: np.ndarray | None) -> np.ndarray:
    layout = POSITION + (NORMAL if normals is not None else []) + (COLOUR if colours is not None else [])
    out = np.empty(len(points), layout)
    for names, values in ((POSITION, points), (NORMAL, normals), (COLOUR, colours)):
        if values is not None:
            for k, (name, _) in enumerate(names):
                out[name] = values[:, k]
    return out


def _header(vertex: np.ndarray) -> str:
    lines = ["ply", "format binary_little_endian 1.0", "comment lucid relic, millimetres, z up"]
    lines.append(f"element vertex {len(vertex)}")
    kinds = dict(POSITION + NORMAL + COLOUR)
    lines += [f"property {PLY_TYPE[kinds[name]]} {name}" for name in vertex.dtype.names]
    return "\n".join(lines) + "\n"


def _write(path: Path, header: str, *tables: np.ndarray) -> None:
    with replacing(path) as out:
        out.write((header + "end_header\n").encode("ascii"))
        for table in tables:
            out.write(table.tobytes())


def read_ply_mesh(path: Path) -> TriangleMesh:
    """Read a mesh as it stands, with vertex colours or the texture it names where the file has them."""
    _check_counts(path)
    return textured_mesh(load_with_trimesh(path, "ply"))


def read_ply_points(path: Path) -> PointCloud:
    """Read points, with normals where the file has them or its faces give them, and colours."""
    places, normals, colours = _vertices_of(path)
    return PointCloud(finite_points(path, places), normals, colours)


def read_ply_scans(path: Path) -> list[ScanOfFile]:
    """The one scan of a file: a mesh where it has faces, else points."""
    if _check_counts(path).get(b"face", 0):
        return [ScanOfFile(mesh=read_ply_mesh(path))]
    places, normals, colours = _vertices_of(path)
    points, shift = near_origin(places)
    return [ScanOfFile(points=PointCloud(finite_points(path, points), normals, colours), shift=shift)]


def _vertices_of(path: Path) -> tuple[np.ndarray, np.ndarray | None, np.ndarray | None]:
    """Places (n, 3) float64, normals and colours or None."""
    count = _check_counts(path).get(b"vertex", 0)
    loaded = trimesh.load(path, file_type="ply", process=False)
    places = np.asarray(loaded.vertices)
    if len(places) != count:
        raise InputError(f"{path.name}: the file ends before its {count:,} points do")
    raw = loaded.metadata.get("_ply_raw", {}).get("vertex", {}).get("data")
    normals = _columns_of(raw, ("nx", "ny", "nz"))
    if normals is None and hasattr(loaded, "faces") and len(loaded.faces):
        normals = np.asarray(loaded.vertex_normals, np.float32)
    colours = _columns_of(raw, ("red", "green", "blue"))
    if colours is not None:
        scale = 255.0 if colours.max(initial=0) <= 1 and (colours % 1).any() else 1.0
        colours = np.clip(np.round(colours * scale), 0, 255).astype(np.uint8)
    return places, normals, colours


def _columns_of(raw: Any, names: tuple[str, ...]) -> np.ndarray | None:
    """(n, 3) float32 of three columns of a vertex table, or None when it lacks one."""
    if raw is None or not set(names) <= set(_columns(raw)):
        return None
    return np.stack([raw[n] for n in names], axis=1).astype(np.float32).reshape(-1, 3)


def _check_counts(path: Path) -> dict[bytes, int]:
    """How many of each element the header declares; raises `InputError` for a file that is too short for what it declares."""
    with path.open("rb") as source:
        head = source.read(MAX_HEADER)
    end = head.find(b"end_header")
    if not head.startswith(b"ply") or end < 0:
        raise InputError(f"{path.name}: this .ply file has no whole header")
    counts = {m[1]: int(m[2]) for m in ELEMENT.finditer(head[:end])}
    body = path.stat().st_size - end - len(b"end_header\n")
    rows = sum(counts.values())
    is_text = b"format ascii" in head[:end]
    short = (rows * 2 if is_text else _least_bytes(head[:end])) > body + 1
    if not short and is_text:
        with path.open("rb") as source:
            source.seek(end)
            short = sum(1 for line in source if line.strip()) - 1 < rows
    if short:
        raise InputError(f"{path.name}: the file ends before its {rows:,} vertices and faces do")
    return counts


def _least_bytes(head: bytes) -> int:
    """The bytes that the body of a binary file has at the least: lists of faces name three corners or more."""
    total, count = 0, 0
    for line in head.splitlines():
        words = line.split()
        if words[:1] == [b"element"] and len(words) > 2 and words[2].isdigit():
            count = int(words[2][:12])
        elif words[:2] == [b"property", b"list"] and len(words) > 4:
            corners = 3 if words[4] in (b"vertex_indices", b"vertex_index") else 0
            total += count * (TYPE_BYTES.get(words[2], 1) + corners * TYPE_BYTES.get(words[3], 1))
        elif words[:1] == [b"property"] and len(words) > 2:
            total += count * TYPE_BYTES.get(words[1], 1)
    return total


def _columns(raw: Any) -> tuple[str, ...]:
    """Names of a vertex table: an array with names in a binary file, a dictionary of columns in a text one."""
    return tuple(raw) if isinstance(raw, dict) else tuple(raw.dtype.names or ())


PLY = Format(
    name="ply",
    suffixes=("ply",),
    help="with vertex colours",
    carries=frozenset({"shape", "colours", "normals"}),
    read_mesh=read_ply_mesh,
    write_mesh=write_ply_mesh,
    read_points=read_ply_points,
    write_points=write_ply_points,
    read_scans=read_ply_scans,
)
