"""Reading and writing meshes and points by the suffix of the file's name."""

import io
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import TypeVar

import numpy as np

from lucid_relic.errors import InputError, LucidRelicError
from lucid_relic.io.formats import Format, ScanOfFile, cause, format_of, named_format, names, suffix_of
from lucid_relic.types import PointCloud, TriangleMesh

MESH_FORMATS = names("write_mesh")
FARTHEST_MM = 1e6  # of any place in a file
T = TypeVar("T")


def read_mesh(path: str | Path) -> TriangleMesh:
    """Read a mesh in millimetres, z up; raises `InputError` for a file that cannot be read."""
    path = _existing(path)
    mesh = _guarded(_able(path, "read_mesh", "meshes are read from").read_mesh, path)
    _check_places(path, mesh.vertices)
    return mesh


def read_points(path: str | Path) -> PointCloud:
    """Read points in millimetres, with normals where the file has them."""
    path = _existing(path)
    cloud = _guarded(_able(path, "read_points", "points are read from").read_points, path)
    _check_places(path, cloud.points)
    return cloud


def read_scans(path: str | Path) -> list[ScanOfFile]:
    """The scans of a file in its own unit: points or a mesh; raises `InputError` for a file that cannot be read."""
    path = _existing(path)
    found = format_of(path)
    scans = _guarded(found.read_scans or (lambda p: _only_scan(found, p)), path)
    for scan in scans:
        places = scan.points.points if scan.mesh is None else scan.mesh.vertices
        if not np.isfinite(places).all():
            raise InputError(f"{path.name}: some places are NaN or infinite")
    return scans


def _only_scan(found: Format, path: Path) -> list[ScanOfFile]:
    return [ScanOfFile(mesh=found.read_mesh(path), unit=found.unit)]


def write_mesh(path: str | Path, mesh: TriangleMesh) -> list[Path]:
    """Write a mesh in the format its name ends with; returns every file written."""
    path = Path(path)
    return _able(path, "write_mesh", "meshes are written as").write_mesh(path, mesh)


def write_points(path: str | Path, cloud: PointCloud) -> None:
    """Write points in the format the file's name ends with."""
    path = Path(path)
    _able(path, "write_points", "points are written as").write_points(path, cloud)


def _guarded(read: Callable[[Path], T], path: Path) -> T:
    """What a reader gives; whatever a damaged file makes it or the library behind it raise becomes one sentence."""
    try:
        with np.errstate(all="ignore"):
            return read(path)
    except LucidRelicError:
        raise
    except Exception as error:
        raise InputError(f"{path.name}: this .{suffix_of(path)} file cannot be read: {cause(path, error)}") from None


def _check_places(path: Path, points: np.ndarray) -> None:
    if not np.isfinite(points).all():
        raise InputError(f"{path.name}: some places are NaN or infinite")
    if np.abs(points).max(initial=0) > FARTHEST_MM:
        raise InputError(f"{path.name}: some places lie beyond a kilometre; is the file in millimetres?")


def _existing(path: str | Path) -> Path:
    path = Path(path)
    if not path.is_file():
        raise InputError(f"{path}: there is no such file")
    return path


def _able(path: Path, what: str, words: str) -> Format:
    """The format of a file's name, when it can do that."""
    found = format_of(path)
    if found is None or getattr(found, what) is None:
        raise InputError(f"{path.name}: {words} {', '.join(names(what))}, not “.{suffix_of(path)}”")
    return found


def mesh_download(mesh: TriangleMesh, kind: str, stem: str, scratch: str | Path) -> tuple[str, bytes]:
    """Name and bytes of a download; a mesh of several files comes as a .zip."""
    path = Path(scratch) / f"{stem}.{named_format(kind).suffixes[0]}"
    files = write_mesh(path, mesh)
    if len(files) == 1:
        return files[0].name, files[0].read_bytes()
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as bundle:
        for file in files:
            bundle.write(file, file.name)
    return f"{stem}-{kind}.zip", packed.getvalue()
