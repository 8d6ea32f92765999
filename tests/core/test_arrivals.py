"""Whatever a device writes becomes passes: each format by an independent writer, units, poses, several at once."""

import zipfile
from dataclasses import replace
from pathlib import Path

import numpy as np
import pye57
import pytest
import trimesh
from PIL import Image
from pye57 import libe57
from scenes import uv_sphere
from scipy.spatial.transform import Rotation

from lucid_relic.errors import InputError
from lucid_relic.io.arrivals import Said, arrive, open_pass_folder
from lucid_relic.io.formats.e57 import read_e57, write_e57_scans
from lucid_relic.io.meshes import read_points, write_mesh, write_points
from lucid_relic.types import PassState, PointCloud, Texture, TriangleMesh

BALL = uv_sphere(30.0, 40, 80)
COLOURS = np.random.default_rng(4).integers(0, 255, (len(BALL.vertices), 3)).astype(np.uint8)


def came(path: Path, said: Said | None = None) -> list[PassState]:
    folders = arrive(path, path.parent / f"{path.name}.passes", said or Said())
    return [open_pass_folder(f) for f in folders]


def only(path: Path, said: Said | None = None) -> PassState:
    (scan,) = came(path, said)
    return scan


def outward(scan: PassState) -> float:
    """Share of the points whose normals face away from the middle."""
    cloud = scan.cloud.cloud
    return float((np.einsum("ij,ij->i", cloud.normals, cloud.points - cloud.points.mean(axis=0)) > 0).mean())


@pytest.mark.parametrize("encoding", ["ascii", "binary_little_endian", "binary_big_endian"])
def test_ply_points_of_another_writer_come_in_with_colours(encoding: str, tmp_path: Path) -> None:
    # Independent writer for two encodings: trimesh. The third (PLY, Turk 1994, section "binary") is written by numpy.
    path = tmp_path / "ball.ply"
    if encoding == "binary_big_endian":
        table = np.zeros(len(COLOURS), [("p", ">f8", 3), ("c", "u1", 3)])
        table["p"], table["c"] = BALL.vertices, COLOURS
        names = [f"property double {a}" for a in "xyz"] + [f"property uchar {c}" for c in ("red", "green", "blue")]
        head = [f"ply\nformat {encoding} 1.0\nelement vertex {len(table)}", *names, "end_header\n"]
        path.write_bytes("\n".join(head).encode() + table.tobytes())
    else:
        cloud = trimesh.PointCloud(BALL.vertices, np.column_stack([COLOURS, np.full(len(COLOURS), 255)]))
        path.write_bytes(trimesh.exchange.ply.export_ply(cloud, encoding=encoding.split("_")[0]))
    scan = only(path)
    assert np.allclose(scan.cloud.cloud.points, BALL.vertices, atol=1e-3)
    assert (scan.cloud.cloud.colours == COLOURS).all()
    assert scan.cloud.normals_from == "spread" and outward(scan) > 0.999
    assert scan.cloud.spacing_mm == pytest.approx(np.sqrt(BALL.area_mm2() / len(COLOURS)), rel=0.35)


LAYOUTS = {
    "plain.xyz": ("", "{x:.4f} {y:.4f} {z:.4f}"),
    "named.csv": ("Z [mm];R;G;B;X [mm];Y [mm]", "{z:.4f};{r};{g};{b};{x:.4f};{y:.4f}"),
    "comma.csv": ("x;y;z", "{x:.4f};{y:.4f};{z:.4f}"),
    "commas.txt": ("//X,Y,Z,R,G,B", "{x:.4f},{y:.4f},{z:.4f},{r},{g},{b}"),
    "counted.pts": ("{count}", "{x:.4f} {y:.4f} {z:.4f} -1212 {r} {g} {b}"),
    "both.txt": ("# x y z n c", "{x:.4f}\t{y:.4f}\t{z:.4f}\t{nx:.5f}\t{ny:.5f}\t{nz:.5f}\t{r}\t{g}\t{b}"),
    "turned.asc": ("", "{x:.4f} {y:.4f} {z:.4f} {r} {g} {b} {nx:.5f} {ny:.5f} {nz:.5f}"),
}


@pytest.mark.parametrize("name", LAYOUTS)
def test_columns_are_told_by_header_or_numbers(name: str, tmp_path: Path) -> None:
    header, line = LAYOUTS[name]
    normals = BALL.vertices / 30.0
    rows = [
        line.format(x=p[0], y=p[1], z=p[2], nx=n[0], ny=n[1], nz=n[2], r=c[0], g=c[1], b=c[2])
        for p, n, c in zip(BALL.vertices, normals, COLOURS, strict=True)
    ]
    if name == "comma.csv":
        rows = [row.replace(".", ",") for row in rows]
    text = "\n".join([*([header.format(count=len(rows))] if header else []), *rows])
    (tmp_path / name).write_text(text, encoding="utf-8-sig" if name == "named.csv" else "utf-8")
    cloud = only(tmp_path / name).cloud
    assert np.allclose(cloud.cloud.points, BALL.vertices, atol=1e-3)
    assert (cloud.cloud.colours is not None) == ("{r}" in line)
    if "{r}" in line:
        assert (cloud.cloud.colours == COLOURS).all()
    assert cloud.normals_from == ("file" if "{nx" in line else "spread")
    assert np.einsum("ij,ij->i", cloud.cloud.normals, normals).min() > 0.9


@pytest.mark.parametrize("text", ["", "# nothing\n", "a b c\nd e f\n", "1 2\n3 4\n", "1 2 3\n4 5 x\n" * 80])
def test_text_without_columns_of_numbers_is_refused(text: str, tmp_path: Path) -> None:
    (tmp_path / "odd.txt").write_text(text)
    with pytest.raises(InputError, match="odd.txt"):
        came(tmp_path / "odd.txt")
    assert not (tmp_path / "odd.txt.passes").exists()


def station(place: tuple[float, float, float], seed: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Of the ball what a scanner at a place (mm) sees: points in its own frame, their true places, and its pose."""
    eye, unit = np.array(place), BALL.vertices / 30.0
    seen = np.einsum("ij,ij->i", unit, eye - BALL.vertices) > 0.2
    pose = np.eye(4)
    pose[:3, :3] = Rotation.random(random_state=seed).as_matrix()
    pose[:3, 3] = eye
    own = (BALL.vertices[seen] - eye) @ pose[:3, :3]
    return own, BALL.vertices[seen], pose


def test_posed_scans_of_an_e57_lie_as_their_file_says(tmp_path: Path) -> None:
    # Independent writer: pye57 (libE57Format), the reference implementation of ASTM E2807.
    stations = [station((200, 0, 40), 1), station((-150, 90, 0), 2)]
    with pye57.E57(str(tmp_path / "two.e57"), mode="w") as bundle:
        for k, (own, _, pose) in enumerate(stations):
            x, y, z = own.T / 1000
            data = {"cartesianX": x, "cartesianY": y, "cartesianZ": z}
            turn = Rotation.from_matrix(pose[:3, :3]).as_quat(scalar_first=True)
            bundle.write_scan_raw(data, name=f"station {k}", rotation=turn, translation=pose[:3, 3] / 1000)
    passes = came(tmp_path / "two.e57")
    assert [p.title for p in passes] == ["station 0", "station 1"]
    for scan, (_, true, pose) in zip(passes, stations, strict=True):
        assert np.allclose(scan.cloud.cloud.points, true, atol=1e-3)
        assert np.allclose(scan.cloud.scanner, pose[:3, 3], atol=1e-3)
        assert scan.cloud.normals_from == "scanner" and outward(scan) > 0.99
    assert passes[0].cloud.shared_frame and passes[0].cloud.shared_frame == passes[1].cloud.shared_frame
    assert (passes[0].cloud.unit, passes[0].cloud.unit_from) == ("m", "format")


def test_a_frame_far_off_is_read_to_a_hundredth_of_a_millimetre(tmp_path: Path) -> None:
    own, _, _ = station((200, 0, 40), 1)
    far = np.eye(4)
    far[:3, 3] = [4.1e8, 5.3e9, 1.2e5]  # mm: a national grid
    write_e57_scans(tmp_path / "far.e57", [(PointCloud(own.astype(np.float32)), far, "a")])
    (scan,) = read_e57(tmp_path / "far.e57")
    back = (scan.points.points.astype(np.float64) + scan.shift) * 1000 - far[:3, 3]
    assert np.allclose(back, own, atol=2e-3) and np.abs(scan.points.points).max() < 10


def write_spherical(path: Path, rae: np.ndarray, invalid: np.ndarray) -> None:
    """A scan of ranges, azimuths and elevations, some of them invalid, by libE57Format itself (ASTM E2807-11, 8.4.4)."""
    with pye57.E57(str(path), mode="w") as bundle:
        file = bundle.image_file
        prototype = libe57.StructureNode(file)
        names = ("sphericalRange", "sphericalAzimuth", "sphericalElevation")
        for name in names:
            prototype.set(name, libe57.FloatNode(file, 0.0, libe57.E57_DOUBLE, -100.0, 100.0))
        prototype.set("sphericalInvalidState", libe57.IntegerNode(file, 0, 0, 2))
        points = libe57.CompressedVectorNode(file, prototype, libe57.VectorNode(file, True))
        scan = libe57.StructureNode(file)
        scan.set("guid", libe57.StringNode(file, "{1}"))
        scan.set("points", points)
        bundle.data3d.append(scan)
        columns, buffers = bundle.make_buffers([*names, "sphericalInvalidState"], len(rae))
        for k, name in enumerate(names):
            columns[name][:] = rae[:, k]
        columns["sphericalInvalidState"][:] = invalid
        writer = points.writer(buffers)
        writer.write(len(rae))
        writer.close()


def test_spherical_places_are_seen_from_their_scanner(tmp_path: Path) -> None:
    own, _, _ = station((200, 0, 40), 1)
    x, y, z = own.T / 1000
    reach = np.linalg.norm(own / 1000, axis=1)
    rae = np.stack([reach, np.arctan2(y, x), np.arcsin(z / reach)], axis=1)
    invalid = np.zeros(len(own), np.int8)
    invalid[::7] = 2
    write_spherical(tmp_path / "s.e57", rae, invalid)
    scan = only(tmp_path / "s.e57")
    assert np.allclose(scan.cloud.cloud.points, own[invalid == 0], atol=1e-3)
    assert np.allclose(scan.cloud.scanner, 0) and scan.cloud.normals_from == "scanner"


@pytest.mark.parametrize("kind", ["ply", "xyz", "e57"])
def test_points_come_back_as_they_were_written(kind: str, tmp_path: Path) -> None:
    normals = None if kind == "e57" else BALL.vertex_normals()
    write_points(tmp_path / f"a.{kind}", PointCloud(BALL.vertices, normals, COLOURS))
    back = read_points(tmp_path / f"a.{kind}")
    assert np.allclose(back.points, BALL.vertices, atol=1e-5 if kind != "ply" else 0)
    assert (back.colours == COLOURS).all()
    if normals is not None:
        assert np.allclose(back.normals, normals, atol=1e-5)


def textured_ball() -> TriangleMesh:
    """A ball whose texture is red above and green below."""
    image = np.zeros((64, 64, 3), np.uint8)
    image[:32, :, 0], image[32:, :, 1] = 200, 200
    v = (BALL.vertices[BALL.faces][:, :, 2] / 60 + 0.5) * 0.9 + 0.05
    uv = np.stack([np.full_like(v, 0.5), v], axis=2).astype(np.float32)
    return replace(BALL, texture=Texture(image, uv, 1.0))


@pytest.mark.parametrize("kind", ["obj", "glb"])
def test_a_texture_comes_in_with_its_mesh(kind: str, tmp_path: Path) -> None:
    write_mesh(tmp_path / f"ball.{kind}", textured_ball())
    scan = only(tmp_path / f"ball.{kind}")
    cloud, surface = scan.cloud.cloud, scan.cloud.surface
    assert len(surface.faces) == len(BALL.faces) and surface.volume_mm3() == pytest.approx(BALL.volume_mm3(), rel=1e-3)
    assert surface.texture.image.shape == (64, 64, 3) and scan.cloud.normals_from == "faces"
    top, bottom = cloud.colours[cloud.points[:, 2] > 5], cloud.colours[cloud.points[:, 2] < -5]
    assert (top[:, 0] > 150).all() and (top[:, 1] < 60).all() and (bottom[:, 1] > 150).all()
    assert scan.cloud.unit_from == ("size" if kind == "obj" else "format")


def test_a_texture_that_is_no_square_keeps_its_places(tmp_path: Path) -> None:
    write_mesh(tmp_path / "ball.obj", textured_ball())
    with Image.open(tmp_path / "ball.png") as image:
        image.resize((64, 32)).save(tmp_path / "ball.png")
    cloud = only(tmp_path / "ball.obj").cloud.cloud
    assert (cloud.colours[cloud.points[:, 2] > 8][:, 0] > 150).all()


THREEMF = """<?xml version="1.0"?><model unit="inch" xmlns="http://schemas.microsoft.com/3dmanufacturing/core/2015/02">
<resources><object id="1" type="model"><mesh><vertices><vertex x="0" y="0" z="0"/><vertex x="1" y="0" z="0"/>
<vertex x="0" y="1" z="0"/><vertex x="0" y="0" z="1"/></vertices><triangles><triangle v1="0" v2="2" v3="1"/>
<triangle v1="0" v2="1" v3="3"/><triangle v1="0" v2="3" v3="2"/><triangle v1="1" v2="2" v3="3"/></triangles></mesh></object>
<object id="2" type="model"><components><component objectid="1"/>
<component objectid="1" transform="0 1 0 -1 0 0 0 0 1 10 0 0"/></components></object></resources>
<build><item objectid="2" transform="2 0 0 0 2 0 0 0 2 0 0 0"/></build></model>"""


def test_3mf_components_units_and_transforms_follow_the_specification(tmp_path: Path) -> None:
    # 3MF core specification 1.3, 3.3 (row-vector transforms), 3.4.1 (units) and 4.2 (components), worked out by hand:
    # two tetrahedra of edge 2 in, the second turned by a quarter and moved by 20 in.
    with zipfile.ZipFile(tmp_path / "two.3mf", "w") as bundle:
        bundle.writestr("3D/3dmodel.model", THREEMF)
    scan = only(tmp_path / "two.3mf")
    surface = scan.cloud.surface
    assert len(surface.faces) == 8 and surface.volume_mm3() == pytest.approx(2 * 8 * 25.4**3 / 6, rel=1e-5)
    assert np.allclose(surface.vertices.min(axis=0), [0, 0, 0], atol=1e-3)
    assert np.allclose(surface.vertices.max(axis=0), np.array([20, 2, 2]) * 25.4, atol=1e-3)
    own = np.array([[0, 2, 0]]) * 25.4 + [20 * 25.4, 0, 0]  # the corner (1, 0, 0) of the second one
    assert np.linalg.norm(surface.vertices - own, axis=1).min() < 1e-3
    assert (scan.cloud.unit, scan.cloud.unit_from) == ("mm", "format")


@pytest.mark.parametrize(("kind", "named"), [("stl", "mm"), ("ply", "m")])
def test_a_unit_is_guessed_by_size_and_can_be_said(kind: str, named: str, tmp_path: Path) -> None:
    scaled = BALL if named == "mm" else replace(BALL, vertices=BALL.vertices / 1000)
    write_mesh(tmp_path / f"a.{kind}", scaled)
    guessed = only(tmp_path / f"a.{kind}")
    assert (guessed.cloud.unit, guessed.cloud.unit_from) == (named, "size")
    assert np.ptp(guessed.cloud.cloud.points[:, 2]) == pytest.approx(60, abs=0.5)
    told = came(tmp_path / f"a.{kind}", Said(unit="in"))[0]
    assert told.cloud.unit_from == "said"
    assert np.ptp(told.cloud.cloud.points[:, 2]) == pytest.approx(60 * 25.4 * (1 if named == "mm" else 1e-3), rel=0.01)


def test_a_zip_of_scans_gives_a_pass_each_and_leaves_the_rest(tmp_path: Path) -> None:
    write_mesh(tmp_path / "one.obj", textured_ball())
    write_mesh(tmp_path / "two.stl", BALL)
    with zipfile.ZipFile(tmp_path / "both.zip", "w") as bundle:
        for name in ("one.obj", "one.mtl", "one.png", "two.stl"):
            bundle.write(tmp_path / name, f"scans/{name}")
        bundle.writestr("__MACOSX/scans/._two.stl", b"junk")
        bundle.writestr("readme.md", b"hello")
    passes = came(tmp_path / "both.zip")
    assert [p.title for p in passes] == ["one", "two"]
    assert passes[0].cloud.surface.texture is not None
    with zipfile.ZipFile(tmp_path / "none.zip", "w") as bundle:
        bundle.writestr("readme.md", b"hello")
    with pytest.raises(InputError, match=r"none\.zip: there is no pass inside"):
        came(tmp_path / "none.zip")


def test_a_folder_of_scans_gives_a_pass_each(tmp_path: Path) -> None:
    (tmp_path / "scans").mkdir()
    for name in ("b.ply", "a.stl"):
        write_mesh(tmp_path / "scans" / name, BALL)
    assert [p.title for p in came(tmp_path / "scans")] == ["a", "b"]
    (tmp_path / "empty").mkdir()
    with pytest.raises(InputError, match="no pass in this folder"):
        came(tmp_path / "empty")


def test_too_few_points_and_other_files_are_refused_by_name(tmp_path: Path) -> None:
    (tmp_path / "few.xyz").write_text("0 0 0\n1 0 0\n0 1 0\n")
    with pytest.raises(InputError, match=r"few\.xyz: only 3 points"):
        came(tmp_path / "few.xyz")
    (tmp_path / "notes.docx").write_bytes(b"PK")
    with pytest.raises(InputError, match=r"notes\.docx: passes are read from"):
        came(tmp_path / "notes.docx")
