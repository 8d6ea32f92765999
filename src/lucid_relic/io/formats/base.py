"""What a file format is, and reading meshes through trimesh."""

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import trimesh

from lucid_relic.errors import InputError, quoted
from lucid_relic.types import PointCloud, TriangleMesh


@dataclass(frozen=True, kw_only=True)
class Format:
    """One format: its name (also of downloads), suffixes without the dot, one line for people, what it carries.

    carries holds any of: shape, colours, normals, texture, unit. write_mesh returns every file it wrote.
    """

    name: str
    suffixes: tuple[str, ...]
    help: str
    carries: frozenset[str]
    read_mesh: Callable[[Path], TriangleMesh] | None = None
    write_mesh: Callable[[Path, TriangleMesh], list[Path]] | None = None
    read_points: Callable[[Path], PointCloud] | None = None
    write_points: Callable[[Path, PointCloud], None] | None = None


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


def merged(mesh: TriangleMesh) -> TriangleMesh:
    """The mesh with vertices at the same place made one, and triangles without area left out."""
    unique, first, index = np.unique(mesh.vertices, axis=0, return_index=True, return_inverse=True)
    faces = index.reshape(-1)[mesh.faces].astype(np.int32)
    proper = (faces[:, 0] != faces[:, 1]) & (faces[:, 1] != faces[:, 2]) & (faces[:, 0] != faces[:, 2])
    colours = None if mesh.colours is None else mesh.colours[first]
    return TriangleMesh(unique, faces[proper], colours)


def finite_points(path: Path, points: np.ndarray) -> np.ndarray:
    """(n, 3) float32; raises `InputError` when there are none or some are not numbers."""
    if not len(points) or not np.isfinite(points).all():
        raise InputError(f"{path.name}: there are no points in this file, or some are NaN")
    return np.ascontiguousarray(points, np.float32)
