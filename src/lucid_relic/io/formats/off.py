"""OFF (Geomview): vertices and faces as text; read only."""

from pathlib import Path

from lucid_relic.errors import InputError
from lucid_relic.io.formats.base import Format, load_with_trimesh, plain_mesh
from lucid_relic.types import TriangleMesh


def read_off(path: Path) -> TriangleMesh:
    """Read a mesh in millimetres, z up; raises `InputError` for a file that ends too early."""
    _check_counts(path)
    return plain_mesh(load_with_trimesh(path, "off"))


def _check_counts(path: Path) -> None:
    """Every vertex and face has a line of its own."""
    with path.open("rb") as source:
        lines = (line.split(b"#")[0].split() for line in source)
        full = (line for line in lines if line)
        first = next(full, [])
        counts = first[1:] if len(first) > 1 else next(full, [])
        if not first or not first[0].endswith(b"OFF") or len(counts) < 2 or not all(c.isdigit() for c in counts[:2]):
            raise InputError(f"{path.name}: this .off file has no whole header")
        declared = sum(int(c[:12]) for c in counts[:2])
        if sum(1 for _ in full) < declared:
            raise InputError(f"{path.name}: the file ends before its {declared:,} vertices and faces do")


OFF = Format(name="off", suffixes=("off",), help="shape only", carries=frozenset({"shape"}), read_mesh=read_off)
