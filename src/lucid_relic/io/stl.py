"""Binary STL (3D Systems 1989)."""

from pathlib import Path

import numpy as np

from lucid_relic.io.files import replacing
from lucid_relic.types import TriangleMesh

RECORD = np.dtype([("normal", "<f4", 3), ("corners", "<f4", (3, 3)), ("attribute", "<u2")])


def write_stl(path: str | Path, mesh: TriangleMesh) -> None:
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
