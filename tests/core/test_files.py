"""Files we write are read back by an independent reader with equal volume, at true scale."""

import io
import json
import struct
import zipfile
from pathlib import Path

import numpy as np
import pytest
import trimesh
from khronos import validated
from scenes import uv_sphere

from lucid_relic.errors import InputError
from lucid_relic.io.meshes import read_mesh, read_points, write_mesh, write_points
from lucid_relic.types import PointCloud, Texture, TriangleMesh
from lucid_relic.view.mesh_view import view_glb
from lucid_relic.view.packing import pack_arrays, pack_points, unpack_arrays


@pytest.fixture
def ball() -> TriangleMesh:
    plain = uv_sphere(12, 24, 48)
    rng = np.random.default_rng(2)
    colours = rng.integers(0, 255, (len(plain.vertices), 3)).astype(np.uint8)
    uv = rng.random((len(plain.faces), 3, 2)).astype(np.float32)
    texture = Texture(rng.integers(0, 255, (64, 64, 3)).astype(np.uint8), uv, 1.0)
    made_up = np.arange(len(plain.faces)) % 5 == 0
    return TriangleMesh(plain.vertices, plain.faces, colours, made_up, texture)


@pytest.mark.parametrize("kind", ["stl", "obj", "ply", "glb"])
def test_trimesh_reads_the_same_volume(ball: TriangleMesh, tmp_path: Path, kind: str) -> None:
    # Independent reader: trimesh.
    write_mesh(tmp_path / f"ball.{kind}", ball)
    loaded = trimesh.load(tmp_path / f"ball.{kind}", force="mesh")
    loaded.merge_vertices(merge_tex=True, merge_norm=True)
    scale = 1e9 if kind == "glb" else 1.0  # glTF 2.0, section 3.4: the unit is the metre
    assert loaded.is_watertight
    assert loaded.volume * scale == pytest.approx(ball.volume_mm3(), rel=1e-4)
    again = read_mesh(tmp_path / f"ball.{kind}")
    assert again.volume_mm3() == pytest.approx(ball.volume_mm3(), rel=1e-4)
    assert np.allclose(again.vertices.min(0), ball.vertices.min(0), atol=1e-3)


def test_3mf_holds_millimetres_and_all_triangles(ball: TriangleMesh, tmp_path: Path) -> None:
    write_mesh(tmp_path / "ball.3mf", ball)
    with zipfile.ZipFile(tmp_path / "ball.3mf") as bundle:
        model = bundle.read("3D/3dmodel.model").decode()
    assert 'unit="millimeter"' in model and model.count("<triangle ") == len(ball.faces)


@pytest.mark.parametrize("textured", [True, False])
def test_glb_passes_the_khronos_validator(ball: TriangleMesh, tmp_path: Path, textured: bool) -> None:
    mesh = ball if textured else ball.without_texture()
    write_mesh(tmp_path / "ball.glb", mesh)
    issues = validated(tmp_path / "ball.glb")
    assert issues["numErrors"] == 0, issues["messages"]
    assert issues["numWarnings"] == 0, issues["messages"]


def test_compressed_glb_for_the_viewer_is_valid_too(ball: TriangleMesh, tmp_path: Path) -> None:
    (tmp_path / "view.glb").write_bytes(view_glb(ball))
    issues = validated(tmp_path / "view.glb")
    assert issues["numErrors"] == 0, issues["messages"]


def test_obj_names_its_material_and_picture(ball: TriangleMesh, tmp_path: Path) -> None:
    files = write_mesh(tmp_path / "owl.obj", ball)
    assert [f.name for f in files] == ["owl.obj", "owl.mtl", "owl.png"]
    assert "map_Kd owl.png" in (tmp_path / "owl.mtl").read_text()


def test_ply_keeps_colours_and_the_made_up_flag(ball: TriangleMesh, tmp_path: Path) -> None:
    write_mesh(tmp_path / "ball.ply", ball)
    assert np.array_equal(read_mesh(tmp_path / "ball.ply").colours, ball.colours)
    raw = trimesh.load(tmp_path / "ball.ply", process=False).metadata["_ply_raw"]["face"]["data"]
    assert np.array_equal(raw["made_up"].reshape(-1).astype(bool), ball.made_up)


@pytest.mark.parametrize("kind", ["ply", "xyz"])
def test_points_come_back(tmp_path: Path, kind: str) -> None:
    rng = np.random.default_rng(3)
    cloud = PointCloud(rng.normal(size=(50, 3)).astype(np.float32), np.tile(np.float32([0, 0, 1]), (50, 1)))
    write_points(tmp_path / f"p.{kind}", cloud)
    again = read_points(tmp_path / f"p.{kind}")
    assert np.allclose(again.points, cloud.points, atol=1e-4) and np.allclose(again.normals, cloud.normals)


def test_viewer_points_are_packed_as_documented() -> None:
    points = np.random.default_rng(4).uniform(-5, 5, (101, 3)).astype(np.float32)
    data = pack_points(PointCloud(points), {"pixel": np.arange(101, dtype=np.uint32)}, "abc")
    length = struct.unpack("<I", data[:4])[0]
    head = json.loads(data[4 : 4 + length])
    assert head["count"] == 101 and head["digest"] == "abc" and (4 + length) % 4 == 0
    places = head["arrays"]["positions"]
    assert places == {"type": "u2", "shape": [101, 3], "at": 0}
    grid = np.frombuffer(data[4 + length :], "<u2", 303).reshape(-1, 3)
    back = grid * head["step"] + head["origin"]
    assert all(a["at"] % 4 == 0 for a in head["arrays"].values())
    assert len(data) == 4 + length + -(-101 * 6 // 4) * 4 + 101 * 12
    assert np.allclose(back, points, atol=2e-4)


def test_packed_arrays_come_back_and_what_is_cut_short_is_refused() -> None:
    arrays = {"a": np.arange(7, dtype=np.uint8), "b": np.eye(3, dtype=np.float32), "none": np.empty((0, 3), np.uint16)}
    data = pack_arrays({"figures": {"x": 1}}, arrays)
    head, back = unpack_arrays(data)
    assert head == {"figures": {"x": 1}}
    assert all(np.array_equal(back[k], v) and back[k].dtype == v.dtype for k, v in arrays.items())
    for broken in (b"", data[:3], data[:30], data[:-8]):
        with pytest.raises(InputError, match="cut short"):
            unpack_arrays(broken)


@pytest.mark.parametrize(("name", "content", "says"), [
    ("a.stl", b"\0" * 80 + struct.pack("<I", 1000), "ends before"),
    ("a.ply", b"ply\nnot really", "no whole header"),
    ("a.dae", b"", "read from"),
    ("a.xyz", b"1 2 three\n", "numbers"),
])  # fmt: skip
def test_bad_files_are_refused_with_a_sentence(tmp_path: Path, name: str, content: bytes, says: str) -> None:
    (tmp_path / name).write_bytes(content)
    with pytest.raises(InputError, match=says) as refusal:
        (read_points if name.endswith("xyz") else read_mesh)(tmp_path / name)
    assert name in str(refusal.value)


def test_a_failed_write_leaves_the_old_file(tmp_path: Path) -> None:
    from lucid_relic.io.files import replacing

    target = tmp_path / "x.bin"
    target.write_bytes(b"old")
    with pytest.raises(RuntimeError), replacing(target) as out:
        out.write(b"half")
        raise RuntimeError
    assert target.read_bytes() == b"old" and [p.name for p in tmp_path.iterdir()] == ["x.bin"]
    assert isinstance(out, io.IOBase)
