"""PLY (Turk 1994): binary little-endian meshes and points, with colours and the made-up flag."""

from pathlib import Path

import numpy as np

from lucid_relic.io.files import replacing
from lucid_relic.types import PointCloud, TriangleMesh

POSITION = [("x", "<f4"), ("y", "<f4"), ("z", "<f4")]
NORMAL = [("nx", "<f4"), ("ny", "<f4"), ("nz", "<f4")]
COLOUR = [("red", "u1"), ("green", "u1"), ("blue", "u1")]
PLY_TYPE = {"<f4": "float", "u1": "uchar", "<i4": "int"}


def write_ply_mesh(path: str | Path, mesh: TriangleMesh) -> None:
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


def write_ply_points(path: str | Path, cloud: PointCloud) -> None:
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


def _write(path: str | Path, header: str, *tables: np.ndarray) -> None:
    with replacing(path) as out:
        out.write((header + "end_header\n").encode("ascii"))
        for table in tables:
            out.write(table.tobytes())
