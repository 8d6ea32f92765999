"""Points as lines of numbers: x y z, and normals where there are six."""

import io
from pathlib import Path

import numpy as np

from lucid_relic.errors import InputError
from lucid_relic.io.files import replacing
from lucid_relic.io.formats.base import Format, cause, finite_points
from lucid_relic.types import PointCloud


def read_xyz(path: Path) -> PointCloud:
    """Read points in millimetres, with normals where a line holds six numbers."""
    try:
        table = np.loadtxt(path, dtype=np.float32, ndmin=2, comments=("#", "//"))
    except ValueError as error:
        raise InputError(f"{path.name}: lines must hold three or six numbers: {cause(path, error)}") from None
    if table.ndim != 2 or table.shape[1] < 3:
        raise InputError(f"{path.name}: lines must hold three or six numbers")
    normals = table[:, 3:6] if table.shape[1] >= 6 else None
    return PointCloud(finite_points(path, table[:, :3]), normals)


def write_xyz(path: Path, cloud: PointCloud) -> None:
    """Write points, with normals where known."""
    columns = [cloud.points] + ([cloud.normals] if cloud.normals is not None else [])
    text = io.StringIO()
    np.savetxt(text, np.concatenate(columns, axis=1), "%.5f")
    with replacing(path) as out:
        out.write(text.getvalue().encode("ascii"))


XYZ = Format(
    name="xyz",
    suffixes=("xyz", "txt", "pwn"),
    help="points as lines of numbers, with normals",
    carries=frozenset({"normals"}),
    read_points=read_xyz,
    write_points=write_xyz,
)
