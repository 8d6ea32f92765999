"""Points as lines of numbers: x y z, and colours and normals where there are more."""

import io
from pathlib import Path

import numpy as np

from lucid_relic.io.files import replacing
from lucid_relic.io.formats.base import Format, ScanOfFile, finite_points, near_origin
from lucid_relic.io.formats.columns import read_columns
from lucid_relic.types import PointCloud

WRITTEN_AT_ONCE = 100_000  # lines


def read_xyz(path: Path) -> PointCloud:
    """Read points as they stand, with normals and colours where the columns hold them."""
    places, normals, colours = read_columns(path)
    return PointCloud(finite_points(path, places), normals, colours)


def read_xyz_scans(path: Path) -> list[ScanOfFile]:
    """The one scan of a text file."""
    places, normals, colours = read_columns(path)
    points, shift = near_origin(places)
    return [ScanOfFile(points=PointCloud(finite_points(path, points), normals, colours), shift=shift)]


def write_xyz(path: Path, cloud: PointCloud) -> None:
    """Write points, with colours and normals where known, in that order."""
    columns, layout = [cloud.points], "%.5f %.5f %.5f"
    for values, wording in ((cloud.colours, " %d %d %d"), (cloud.normals, " %.5f %.5f %.5f")):
        if values is not None:
            columns, layout = [*columns, values], layout + wording
    with replacing(path) as out:
        for first in range(0, len(cloud), WRITTEN_AT_ONCE):
            text = io.StringIO()
            np.savetxt(text, np.concatenate([c[first : first + WRITTEN_AT_ONCE] for c in columns], axis=1), layout)
            out.write(text.getvalue().encode("ascii"))


XYZ = Format(
    name="xyz",
    suffixes=("xyz", "txt", "csv", "pts", "asc", "pwn"),
    help="points as lines of numbers, with colours and normals",
    carries=frozenset({"normals", "colours"}),
    read_points=read_xyz,
    write_points=write_xyz,
    read_scans=read_xyz_scans,
)
