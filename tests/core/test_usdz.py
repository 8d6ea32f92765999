"""USDZ against its published specification (openusd.org, "USDZ File Format Specification"): stored, aligned, the stage first.

By hand the files were opened with usd-core 26.11 and passed all its validators; it is 200 MB and not installed here.
"""

import io
import re
import struct
import zipfile
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from scenes import uv_sphere

from lucid_relic.io.formats.usdz import PICTURE, STAGE, usdz_bytes, write_usdz
from lucid_relic.light.srgb import to_linear
from lucid_relic.types import Texture, TriangleMesh


def textured() -> TriangleMesh:
    ball = uv_sphere(20.0, 12, 24)
    image = np.zeros((32, 32, 3), np.uint8)
    image[:16] = (200, 40, 40)  # the upper half of the picture
    height = (ball.corners[:, :, 2] / 40 + 0.5) * 0.98 + 0.01
    uv = np.stack([np.full_like(height, 0.25), height], axis=-1).astype(np.float32)
    return replace(ball, texture=Texture(image, uv, 1.0), roughness=0.35)


def stage_of(data: bytes) -> str:
    return zipfile.ZipFile(io.BytesIO(data)).read(STAGE).decode()


def tuples(text: str, name: str) -> np.ndarray:
    [found] = re.findall(rf"{re.escape(name)} = \[(.*?)\](?: \(|\n)", text)
    rows = re.findall(r"\(([^)]*)\)", found) or [found]
    return np.array([[float(v) for v in row.split(",")] for row in rows]).squeeze()


def test_files_are_stored_aligned_and_begin_with_the_stage() -> None:
    data = usdz_bytes(textured())
    with zipfile.ZipFile(io.BytesIO(data)) as archive:
        entries = archive.infolist()
        assert [e.filename for e in entries] == [STAGE, PICTURE] and archive.testzip() is None
    for entry in entries:
        assert entry.compress_type == zipfile.ZIP_STORED and not entry.flag_bits & 1
        name, extra = struct.unpack_from("<HH", data, entry.header_offset + 26)
        begins = entry.header_offset + 30 + name + extra
        assert begins % 64 == 0, entry.filename
        assert data[begins : begins + 4] in (b"#usd", b"\xff\xd8\xff\xe0")
    assert data == usdz_bytes(textured())


def test_the_surface_stands_upright_in_metres_with_its_texture(tmp_path: Path) -> None:
    mesh = textured()
    [path] = write_usdz(tmp_path / "ball.usdz", mesh)
    text = stage_of(path.read_bytes())
    assert text.startswith("#usda 1.0\n") and 'upAxis = "Y"' in text and "metersPerUnit = 1\n" in text
    points = tuples(text, "point3f[] points")
    faces = tuples(text, "int[] faceVertexIndices").astype(int).reshape(-1, 3)
    assert len(faces) == len(mesh.faces) and np.ptp(points, axis=0) == pytest.approx(0.04, rel=0.02)
    a, b, c = (points[faces[:, k]] for k in range(3))
    # Faces and normals look outward: the volume by the divergence theorem is positive.
    assert np.einsum("ij,ij->i", a, np.cross(b, c)).sum() / 6 == pytest.approx(mesh.volume_mm3() * 1e-9, rel=1e-4)
    assert (np.einsum("ij,ij->i", tuples(text, "normal3f[] normals"), points) > 0).all()
    # What was above is above: z of the object is y of the stage, and of the texture the upper half.
    st = tuples(text, "texCoord2f[] primvars:st")
    assert np.corrcoef(points[:, 1], st[:, 1])[0, 1] > 0.999
    with zipfile.ZipFile(path) as archive:
        picture = np.asarray(Image.open(io.BytesIO(archive.read(PICTURE))))
    assert picture[8, 8, 0] > 150 > picture[24, 8, 0] and "inputs:roughness = 0.35" in text


def test_colours_of_vertices_are_linear_and_bare_surfaces_grey() -> None:
    ball = uv_sphere(20.0, 12, 24)
    colours = np.full((len(ball.vertices), 3), (255, 128, 0), np.uint8)
    text = stage_of(usdz_bytes(replace(ball, colours=colours)))
    told = tuples(text, "color3f[] primvars:displayColor")
    assert told == pytest.approx(to_linear(colours), abs=1e-5) and "UsdUVTexture" not in text
    bare = stage_of(usdz_bytes(ball))
    assert "diffuseColor = (0.5, 0.5, 0.5)" in bare and "primvars" not in bare
