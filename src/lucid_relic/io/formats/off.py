"""OFF (Geomview): vertices and faces as text; read only."""

from pathlib import Path

from lucid_relic.io.formats.base import Format, load_with_trimesh, plain_mesh
from lucid_relic.types import TriangleMesh


def read_off(path: Path) -> TriangleMesh:
    """Read a mesh in millimetres, z up."""
    return plain_mesh(load_with_trimesh(path, "off"))


OFF = Format(name="off", suffixes=("off",), help="shape only", carries=frozenset({"shape"}), read_mesh=read_off)
