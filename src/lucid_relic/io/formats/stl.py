"""Binary STL (3D Systems 1989)."""

from pathlib import Path

import numpy as np

from lucid_relic.errors import InputError
from lucid_relic.io.files import replacing
from lucid_relic.io.formats.base import Format, load_with_trimesh, merged, plain_mesh
from lucid_relic.types import TriangleMesh

RECORD = np.dtype([("normal", "<f4", 3), ("corners", "<f4", (3, 3)), ("attribute", "<u2")])


def write_stl(path: Path, mesh: TriangleMesh) -> list[Path]:
    """Write a mesh in millimetres; STL carries neither colour nor unit."""
    normals = mesh.face_normals()
    normals /= np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-20)
    records = np.zeros(len(mesh.faces), RECORD)
    records["normal"] = normals
    records["corners"] = mesh.corners
    with replacing(path) as out:
        out.write(b"lucid relic, millimetres, z up".ljust(80, b" "))
        out.write(np.uint32(len(records)).tobytes())
        out.write(records.tobytes())
    return [path]


def read_stl(path: Path) -> TriangleMesh:
    """Read a mesh in millimetres, z up; corners at the same place become one vertex."""
    _check_size(path)
    return merged(plain_mesh(load_with_trimesh(path, "stl", process=True)))


def _check_size(path: Path) -> None:
    with path.open("rb") as source:
        head = source.read(84)
    if len(head) < 15 or head[:5] == b"solid":
        return
    count = int(np.frombuffer(head[80:84], "<u4")[0]) if len(head) == 84 else -1
    if count < 0 or path.stat().st_size < 84 + RECORD.itemsize * count:
        raise InputError(f"{path.name}: the file ends before its {max(count, 0):,} triangles do")


STL = Format(
    name="stl",
    suffixes=("stl",),
    help="shape only, for print",
    carries=frozenset({"shape"}),
    read_mesh=read_stl,
    write_mesh=write_stl,
)
