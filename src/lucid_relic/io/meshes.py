"""Reading and writing meshes and points by the ending of the file's name."""

import io
import zipfile
from pathlib import Path

import numpy as np
import trimesh

from lucid_relic.errors import InputError
from lucid_relic.io.files import replacing
from lucid_relic.io.glb import glb_bytes, write_glb
from lucid_relic.io.obj import write_obj
from lucid_relic.io.ply import write_ply_mesh, write_ply_points
from lucid_relic.io.stl import write_stl
from lucid_relic.io.threemf import write_3mf
from lucid_relic.types import PointCloud, TriangleMesh

MESH_FORMATS = ("stl", "obj", "ply", "3mf", "glb")
READABLE = ("stl", "obj", "ply", "glb", "off")
METRES = ("glb", "gltf")


def ending(path: str | Path) -> str:
    """The lower-case ending of a file's name, without the dot."""
    return Path(path).suffix.lower().lstrip(".")


def read_mesh(path: str | Path) -> TriangleMesh:
    """Read a mesh in millimetres, z up (GLB is turned and scaled back); vertices are merged."""
    path = Path(path)
    kind = ending(path)
    if not path.is_file():
        raise InputError(f"{path}: there is no such file")
    if kind not in READABLE:
        raise InputError(f"{path.name}: meshes are read from {', '.join(READABLE)}, not “.{kind}”")
    if kind == "stl":
        _check_stl_size(path)
    try:
        loaded = trimesh.load(path, force="mesh", process=kind == "stl", maintain_order=True)
        vertices, faces = np.asarray(loaded.vertices), np.asarray(loaded.faces)
    except Exception as error:
        raise InputError(f"{path.name}: this .{kind} file cannot be read ({error})") from None
    if not len(faces):
        raise InputError(f"{path.name}: there are no triangles in this file")
    if not np.isfinite(vertices).all():
        raise InputError(f"{path.name}: some vertices are NaN or infinite")
    if kind in METRES:
        vertices = vertices[:, [0, 2, 1]] * [1, -1, 1] * 1000.0
    colours = _vertex_colours(loaded)
    mesh = TriangleMesh(vertices.astype(np.float32), faces.astype(np.int32), colours)
    return _merged(mesh) if kind in ("stl", "glb", "obj") else mesh


def _check_stl_size(path: Path) -> None:
    with path.open("rb") as source:
        head = source.read(84)
    if len(head) < 15 or head[:5] == b"solid":
        return
    count = int(np.frombuffer(head[80:84], "<u4")[0]) if len(head) == 84 else -1
    if count < 0 or path.stat().st_size < 84 + 50 * count:
        raise InputError(f"{path.name}: the file ends before its {max(count, 0):,} triangles do")


def _vertex_colours(loaded: trimesh.Trimesh) -> np.ndarray | None:
    visual = loaded.visual
    if getattr(visual, "kind", None) == "vertex":
        return np.asarray(visual.vertex_colors)[:, :3].astype(np.uint8)
    return None


def _merged(mesh: TriangleMesh) -> TriangleMesh:
    unique, first, index = np.unique(mesh.vertices, axis=0, return_index=True, return_inverse=True)
    faces = index.reshape(-1)[mesh.faces].astype(np.int32)
    proper = (faces[:, 0] != faces[:, 1]) & (faces[:, 1] != faces[:, 2]) & (faces[:, 0] != faces[:, 2])
    colours = None if mesh.colours is None else mesh.colours[first]
    return TriangleMesh(unique, faces[proper], colours)


def write_mesh(path: str | Path, mesh: TriangleMesh) -> list[Path]:
    """Write a mesh in the format its name ends with; returns every file written."""
    path = Path(path)
    kind = ending(path)
    if kind == "obj":
        return write_obj(path, mesh)
    writers = {"stl": write_stl, "ply": write_ply_mesh, "glb": write_glb, "3mf": write_3mf}
    if kind not in writers:
        raise InputError(f"{path.name}: meshes are written as {', '.join(MESH_FORMATS)}, not “.{kind}”")
    writers[kind](path, mesh)
    return [path]


def read_points(path: str | Path) -> PointCloud:
    """Read points from PLY or XYZ, with normals where the file has them."""
    path = Path(path)
    if not path.is_file():
        raise InputError(f"{path}: there is no such file")
    kind = ending(path)
    if kind in ("xyz", "txt", "pwn"):
        return _read_xyz(path)
    if kind != "ply":
        raise InputError(f"{path.name}: points are read from ply and xyz, not “.{kind}”")
    try:
        loaded = trimesh.load(path, process=False)
        points = np.asarray(loaded.vertices, np.float32)
        raw = loaded.metadata.get("_ply_raw", {}).get("vertex", {}).get("data")
    except Exception as error:
        raise InputError(f"{path.name}: this .ply file cannot be read ({error})") from None
    normals = None
    if raw is not None and {"nx", "ny", "nz"} <= set(raw.dtype.names or ()):
        normals = np.stack([raw["nx"], raw["ny"], raw["nz"]], axis=1).astype(np.float32).reshape(-1, 3)
    elif hasattr(loaded, "faces") and len(loaded.faces):
        normals = np.asarray(loaded.vertex_normals, np.float32)
    return PointCloud(_finite(path, points), normals)


def _read_xyz(path: Path) -> PointCloud:
    try:
        table = np.loadtxt(path, dtype=np.float32, ndmin=2, comments=("#", "//"))
    except ValueError as error:
        raise InputError(f"{path.name}: lines must hold three or six numbers ({error})") from None
    if table.ndim != 2 or table.shape[1] < 3:
        raise InputError(f"{path.name}: lines must hold three or six numbers")
    normals = table[:, 3:6] if table.shape[1] >= 6 else None
    return PointCloud(_finite(path, table[:, :3]), normals)


def _finite(path: Path, points: np.ndarray) -> np.ndarray:
    if not len(points) or not np.isfinite(points).all():
        raise InputError(f"{path.name}: there are no points in this file, or some are NaN")
    return np.ascontiguousarray(points, np.float32)


def write_points(path: str | Path, cloud: PointCloud) -> None:
    """Write points as PLY or XYZ."""
    if ending(path) == "ply":
        write_ply_points(path, cloud)
        return
    if ending(path) != "xyz":
        raise InputError(f"{Path(path).name}: points are written as ply or xyz")
    columns = [cloud.points] + ([cloud.normals] if cloud.normals is not None else [])
    text = io.StringIO()
    np.savetxt(text, np.concatenate(columns, axis=1), "%.5f")
    with replacing(path) as out:
        out.write(text.getvalue().encode("ascii"))


def mesh_download(mesh: TriangleMesh, kind: str, stem: str, scratch: str | Path) -> tuple[str, bytes]:
    """Name and bytes of a download; an OBJ with its companions comes as a .zip."""
    if kind == "glb":
        return f"{stem}.glb", glb_bytes(mesh)
    files = write_mesh(Path(scratch) / f"{stem}.{kind}", mesh)
    if len(files) == 1:
        return files[0].name, files[0].read_bytes()
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as bundle:
        for file in files:
            bundle.write(file, file.name)
    return f"{stem}-{kind}.zip", packed.getvalue()
