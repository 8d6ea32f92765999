"""Wavefront OBJ with its material library and texture image beside it."""

import io
from pathlib import Path

import numpy as np
from PIL import Image

from lucid_relic.io.files import replacing
from lucid_relic.io.formats.base import Format, load_with_trimesh, merged, textured_mesh
from lucid_relic.types import TriangleMesh


def write_obj(path: Path, mesh: TriangleMesh) -> list[Path]:
    """Write `name.obj` and, for a textured mesh, `name.mtl` and `name.png`; returns all files."""
    files = [path]
    text = io.StringIO()
    text.write("# lucid relic, millimetres, z up\n")
    if mesh.texture is not None:
        text.write(f"mtllib {path.stem}.mtl\n")
        files += _write_material(path, mesh.texture.image)
    np.savetxt(text, mesh.vertices, "v %.5f %.5f %.5f")
    if mesh.texture is None:
        np.savetxt(text, mesh.faces + 1, "f %d %d %d")
    else:
        corners, index = np.unique(mesh.texture.uv.reshape(-1, 2), axis=0, return_inverse=True)
        np.savetxt(text, corners, "vt %.6f %.6f")
        text.write("usemtl surface\n")
        pairs = np.stack([mesh.faces, index.reshape(-1, 3)], axis=2).reshape(-1, 6) + 1
        np.savetxt(text, pairs, "f %d/%d %d/%d %d/%d")
    with replacing(path) as out:
        out.write(text.getvalue().encode("ascii"))
    return files


def _write_material(path: Path, image: np.ndarray) -> list[Path]:
    material, picture = path.with_suffix(".mtl"), path.with_suffix(".png")
    with replacing(material) as out:
        lines = ["newmtl surface", "Ka 0 0 0", "Kd 1 1 1", "Ks 0 0 0", "illum 1", f"map_Kd {picture.name}"]
        out.write(("\n".join(lines) + "\n").encode("ascii"))
    with replacing(picture) as out:
        Image.fromarray(image).save(out, "PNG", compress_level=4)
    return [material, picture]


def read_obj(path: Path) -> TriangleMesh:
    """Read a mesh as it stands, with the texture of its material; corners at the same place become one vertex."""
    return merged(textured_mesh(load_with_trimesh(path, "obj")))


OBJ = Format(
    name="obj",
    suffixes=("obj",),
    help="with material and texture, zipped",
    carries=frozenset({"shape", "texture"}),
    read_mesh=read_obj,
    write_mesh=write_obj,
)
