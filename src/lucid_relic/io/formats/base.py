"""What a file format is, what a scan read from a file is, and reading meshes through trimesh."""

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np
import trimesh

from lucid_relic.errors import InputError, quoted
from lucid_relic.types import PointCloud, Texture, TriangleMesh

FAR_SHARE = 50.0  # times its size that a scan may lie off the origin: its places keep a ten-thousandth of a millimetre
MOST_TEXELS = 8192  # a side of a texture that is kept


@dataclass(frozen=True, kw_only=True)
class ScanOfFile:
    """One scan of a file: points or a mesh, in the file's own unit.

    shift (3,) was taken off all its places, so that they can be told apart in single precision; scanner (3,) is where the
    scanner stood, in the same numbers. unit is what the format says its numbers mean, or nothing. posed says that the
    file places this scan beside its others.
    """

    points: PointCloud | None = None
    mesh: TriangleMesh | None = None
    title: str = ""
    unit: str = ""
    shift: np.ndarray = field(default_factory=lambda: np.zeros(3))
    scanner: np.ndarray | None = None
    posed: bool = False


@dataclass(frozen=True, kw_only=True)
class Format:
    """One format: its name (also of downloads), suffixes without the dot, one line for people, what it carries.

    carries holds any of: shape, colours, normals, texture, unit, poses. unit is what its numbers mean, where the format says
    so. write_mesh returns every file it wrote; read_scans is for files of several scans.
    """

    name: str
    suffixes: tuple[str, ...]
    help: str
    carries: frozenset[str]
    read_mesh: Callable[[Path], TriangleMesh] | None = None
    write_mesh: Callable[[Path, TriangleMesh], list[Path]] | None = None
    read_points: Callable[[Path], PointCloud] | None = None
    write_points: Callable[[Path, PointCloud], None] | None = None
    read_scans: Callable[[Path], list[ScanOfFile]] | None = None
    unit: str = ""


def cause(path: Path, error: Exception) -> str:
    """What a library says of a file it cannot read, short and without the folder."""
    said = (str(error).splitlines() or [""])[0].replace(str(path), path.name)
    return quoted(said or type(error).__name__)


def load_with_trimesh(path: Path, kind: str, process: bool = False) -> Any:
    """A mesh as trimesh reads it; raises `InputError` for a file that it cannot read or that holds no triangles."""
    try:
        loaded = trimesh.load(path, file_type=kind, force="mesh", process=process, maintain_order=True)
        vertices, faces = np.asarray(loaded.vertices), np.asarray(loaded.faces)
    except Exception as error:
        raise InputError(f"{path.name}: this .{kind} file cannot be read: {cause(path, error)}") from None
    if not len(faces):
        raise InputError(f"{path.name}: there are no triangles in this file")
    if not np.isfinite(vertices).all():
        raise InputError(f"{path.name}: some vertices are NaN or infinite")
    return loaded


def plain_mesh(loaded: Any) -> TriangleMesh:
    """Vertices, faces and vertex colours of what trimesh read."""
    colours = None
    if getattr(loaded.visual, "kind", None) == "vertex":
        colours = np.asarray(loaded.visual.vertex_colors)[:, :3].astype(np.uint8)
    vertices, faces = np.asarray(loaded.vertices), np.asarray(loaded.faces)
    return TriangleMesh(vertices.astype(np.float32), faces.astype(np.int32), colours)


def textured_mesh(loaded: Any) -> TriangleMesh:
    """As `plain_mesh`, with the texture where what trimesh read has an image and places on it."""
    mesh = plain_mesh(loaded)
    uv = getattr(loaded.visual, "uv", None)
    material = getattr(loaded.visual, "material", None)
    image = getattr(material, "baseColorTexture", None) or getattr(material, "image", None)
    if image is None or uv is None or len(uv) != len(mesh.vertices) or not np.isfinite(uv).all():
        return mesh
    corners = np.ascontiguousarray(np.asarray(uv, np.float32)[mesh.faces])
    return replace(mesh, texture=Texture(_square(image), corners, 1.0))


def _square(image: Any) -> np.ndarray:
    """(s, s, 3) uint8 sRGB of a picture, stretched to a square where it is none: places on it are shares of its sides."""
    side = min(max(image.size), MOST_TEXELS)
    image = image.convert("RGB")
    return np.asarray(image if image.size == (side, side) else image.resize((side, side)))


def merged(mesh: TriangleMesh) -> TriangleMesh:
    """The mesh with vertices at the same place made one, and triangles without area left out."""
    unique, first, index = np.unique(mesh.vertices, axis=0, return_index=True, return_inverse=True)
    faces = index.reshape(-1)[mesh.faces].astype(np.int32)
    proper = (faces[:, 0] != faces[:, 1]) & (faces[:, 1] != faces[:, 2]) & (faces[:, 0] != faces[:, 2])
    colours = None if mesh.colours is None else mesh.colours[first]
    texture = mesh.texture and replace(mesh.texture, uv=mesh.texture.uv[proper])
    return TriangleMesh(unique, faces[proper], colours, texture=texture)


def near_origin(places: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Places (n, 3) as float32 and the shift (3,) that was taken off them: none, unless they lie far off."""
    shift = np.zeros(3)
    if len(places):
        low, high = places.min(axis=0), places.max(axis=0)
        middle = (low + high) / 2
        if np.abs(middle).max() > FAR_SHARE * max(float((high - low).max()), 1e-9):
            shift = np.round(middle)
    return np.ascontiguousarray(places - shift if shift.any() else places, np.float32), shift


def finite_points(path: Path, points: np.ndarray) -> np.ndarray:
    """(n, 3) float32; raises `InputError` when there are none or some are not numbers."""
    if not len(points) or not np.isfinite(points).all():
        raise InputError(f"{path.name}: there are no points in this file, or some are NaN")
    return np.ascontiguousarray(points, np.float32)
