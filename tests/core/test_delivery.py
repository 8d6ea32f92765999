"""Deliveries, each read back by an independent reader: geometry, unit, axis, colour, and what receivers are told."""

import base64
import io
import json
import re
import zipfile
from dataclasses import replace
from pathlib import Path

import lib3mf
import numpy as np
import pye57
import pygltflib
import pytest
import trimesh
from PIL import Image
from pypdf import PdfReader
from scenes import knot_model, uv_sphere
from scipy.spatial import cKDTree

from lucid_relic.delivery.prepare import in_frame, prepared, with_vertex_colours
from lucid_relic.delivery.receivers import RECEIVERS, Told, receiver
from lucid_relic.delivery.report import page_of, page_pdf
from lucid_relic.errors import ParameterError, StepNotPossible
from lucid_relic.inspection.distance import sample_surface
from lucid_relic.inspection.summary import ADJUST, LENGTHS, ROUGHNESS, summarise_state
from lucid_relic.light.adjust import Adjustment
from lucid_relic.light.srgb import to_linear, to_srgb
from lucid_relic.operations import get_operation
from lucid_relic.progress import silent
from lucid_relic.types import ScanState, Texture, TriangleMesh

TOLD = Told("Owl of Saltreach", "owl", "Found <at> low tide", {}, (), "const turning = 1 // </script>")


def make(state: ScanState, name: str, folder: Path, **wishes) -> list[Path]:
    found = receiver(name)
    told = replace(TOLD, summary=summarise_state(state), steps=[{"title": "Fuse", "headline": "902 k", "seconds": 3.2}])
    return found.make(state, found.parameters.from_dict(wishes), told, folder, silent)


def coloured(radius: float = 20.0) -> TriangleMesh:
    """A ball, red above and green below, with a texture that shows the same."""
    ball = uv_sphere(radius, 48, 96)
    colours = np.where(ball.vertices[:, 2:] > 0, [200, 40, 24], [24, 160, 64]).astype(np.uint8)
    share = 0.02 + 0.96 * (ball.vertices[ball.faces] / radius + 1) / 2
    uv = np.stack([share[:, :, 0], share[:, :, 2]], axis=2).astype(np.float32)
    image = np.full((512, 512, 3), (200, 40, 24), np.uint8)
    image[256:] = (24, 160, 64)
    return replace(ball, colours=colours, texture=Texture(image, uv, 1.0))


def half_of_both(mesh_vertices: np.ndarray, colours: np.ndarray, up: int, off: int = 8) -> None:
    """Red above, green below, whichever axis is up."""
    above, below = (
        mesh_vertices[:, up] > 0.2 * np.ptp(mesh_vertices[:, up]),
        mesh_vertices[:, up] < -0.2 * np.ptp(mesh_vertices[:, up]),
    )
    assert np.abs(colours[above].astype(int) - (200, 40, 24)).max() <= off
    assert np.abs(colours[below].astype(int) - (24, 160, 64)).max() <= off


def test_3mf_with_colours_is_read_by_the_consortiums_own_library(tmp_path: Path) -> None:
    state = ScanState(mesh=coloured(), upright=True)
    (path,) = make(state, "slicer", tmp_path, triangles=0)
    wrapper = lib3mf.get_wrapper()
    model = wrapper.CreateModel()
    reader = model.QueryReader("3mf")
    reader.SetStrictModeActive(True)
    reader.ReadFromFile(str(path))
    assert reader.GetWarningCount() == 0 and model.GetUnit() == lib3mf.ModelUnit.MilliMeter
    meshes = model.GetMeshObjects()
    assert meshes.MoveNext()
    body = meshes.GetCurrentMeshObject()
    assert body.GetTriangleCount() == len(state.mesh.faces) and body.IsManifoldAndOriented()
    places = np.array([list(v.Coordinates) for v in body.GetVertices()])
    assert np.ptp(places, axis=0) == pytest.approx([40, 40, 40], abs=0.1)
    groups = model.GetColorGroups()
    assert groups.MoveNext()
    group = groups.GetCurrentColorGroup()
    named = {i: group.GetColor(i) for i in group.GetAllPropertyIDs()}
    colours, corner = np.zeros((len(places), 3), np.uint8), [list(t.Indices) for t in body.GetTriangleIndices()]
    for n in range(0, body.GetTriangleCount(), 7):
        properties = body.GetTriangleProperties(n)
        for vertex, own in zip(corner[n], properties.PropertyIDs, strict=True):
            colours[vertex] = (named[own].Red, named[own].Green, named[own].Blue)
    seen = colours.any(axis=1)
    half_of_both(places[seen], colours[seen], up=2)
    reduced = wrapper.CreateModel()
    plain = make(state, "slicer", tmp_path, colour=False, triangles=2000)[0]
    reduced.QueryReader("3mf").ReadFromFile(str(plain))
    less = reduced.GetMeshObjects()
    assert less.MoveNext() and less.GetCurrentMeshObject().GetTriangleCount() <= 2000
    assert not reduced.GetColorGroups().MoveNext()


def test_glb_for_the_web_is_metres_y_up_textured_and_as_rough_as_said(tmp_path: Path) -> None:
    notes = {ROUGHNESS: 0.35, ADJUST: Adjustment(light=0.1).as_json()}
    state = ScanState(mesh=coloured(), notes=notes)
    (path,) = make(state, "web", tmp_path, triangles=4000, texture=256, picture="png")
    read = pygltflib.GLTF2().load(str(path))
    material = read.materials[0].pbrMetallicRoughness
    assert material.roughnessFactor == 0.35 and material.metallicFactor == 0
    assert not read.extensionsRequired  # nothing that a plain engine could not read
    attributes = read.meshes[0].primitives[0].attributes
    low, high = read.accessors[attributes.POSITION].min, read.accessors[attributes.POSITION].max
    assert np.subtract(high, low) == pytest.approx([0.04, 0.04, 0.04], rel=0.02)
    scene = trimesh.load(path, force="mesh")
    assert len(scene.faces) <= 4000
    picture = scene.visual.material.baseColorTexture
    assert picture.size == (256, 256)
    red = np.asarray(picture)[20, 128, :3]
    assert np.abs(red.astype(int) - Adjustment(light=0.1).of_srgb(np.uint8([200, 40, 24]))).max() <= 1
    uv = np.asarray(scene.visual.uv)
    texel = np.asarray(picture)[
        np.clip(((1 - uv[:, 1]) * 256).astype(int), 0, 255), np.clip((uv[:, 0] * 256).astype(int), 0, 255), :3
    ]
    lit = Adjustment(light=0.1).of_srgb(np.uint8([[200, 40, 24], [24, 160, 64]])).astype(int)
    assert np.abs(texel[scene.vertices[:, 1] > 0.004].astype(int) - lit[0]).max() <= 2
    assert np.abs(texel[scene.vertices[:, 1] < -0.004].astype(int) - lit[1]).max() <= 2
    _, also = make(state, "web", tmp_path, triangles=4000, texture=256, usdz=True)
    with zipfile.ZipFile(also) as archive:
        stage = archive.read("object.usda").decode()
    assert also.name.endswith(".usdz") and "inputs:roughness = 0.35" in stage and "UsdUVTexture" in stage


@pytest.mark.parametrize(("kind", "unit", "up"), [("stl", "mm", "z"), ("ply", "in", "y"), ("obj", "m", "y")])
def test_cad_gets_only_what_was_measured_in_its_unit_and_axis(tmp_path: Path, kind: str, unit: str, up: str) -> None:
    mesh = knot_model().mesh
    made_up = mesh.face_centres()[:, 2] < 4
    state = ScanState(mesh=replace(mesh, made_up=made_up))
    (path,) = make(state, "cad", tmp_path, format=kind, unit=unit, up=up, triangles=0)
    read = trimesh.load(path, force="mesh")
    assert len(read.faces) == (~made_up).sum()
    factor = {"mm": 1, "in": 1 / 25.4, "m": 0.001}[unit]
    size = np.ptp(mesh.select_faces(~made_up).vertices, axis=0) * factor
    assert np.ptp(read.vertices, axis=0) == pytest.approx(size[[0, 2, 1]] if up == "y" else size, rel=1e-3, abs=1e-5)
    # A rotation, not a mirror: the solid's volume keeps its sign.
    closed = make(state, "cad", tmp_path, format=kind, unit=unit, up=up, triangles=0, measured_only=False)[0]
    assert trimesh.load(closed, force="mesh").volume == pytest.approx(mesh.volume_mm3() * factor**3, rel=1e-3)
    with pytest.raises(StepNotPossible, match="measured"):
        make(ScanState(mesh=replace(mesh, made_up=np.ones(len(mesh.faces), bool))), "cad", tmp_path)


def test_an_archive_has_points_surface_and_how_it_came_about(processed, tmp_path: Path) -> None:
    state = processed[0]
    files = {p.name: p for p in make(state, "archive", tmp_path)}
    assert {"owl.obj", "owl.mtl", "owl.png", "owl-pass-1.ply", "owl-pass-2.e57", "owl-report.html"} <= set(files)
    assert json.loads(files["owl-steps.json"].read_text())[0]["title"] == "Fuse"
    assert len(json.loads(files["owl-placements.json"].read_text())["passes"]) == 2
    surface = trimesh.load(files["owl.obj"], force="mesh")
    assert len(surface.faces) == len(state.mesh.faces) and surface.visual.material.image is not None
    # Points of both passes lie on the surface, in millimetres, read by other libraries.
    ply = np.asarray(trimesh.load(files["owl-pass-1.ply"]).vertices)
    scan = pye57.E57(str(files["owl-pass-2.e57"]))
    e57 = scan.read_scan(0, ignore_missing_fields=True, colors=True)
    metres = np.stack([e57["cartesianX"], e57["cartesianY"], e57["cartesianZ"]], axis=1)
    near = cKDTree(trimesh.Trimesh(state.mesh.vertices, state.mesh.faces, process=False).sample(60_000, seed=1))
    for points in (ply[::50], 1000 * metres[::50]):
        assert np.percentile(near.query(points)[0], 90) < 1.0
    assert "colorRed" in e57
    with pytest.raises(StepNotPossible, match="Nothing is chosen"):
        make(state, "archive", tmp_path, points=False, mesh=False, report=False)


def test_what_is_shown_is_one_page_and_a_still(tmp_path: Path) -> None:
    page, still = make(ScanState(mesh=coloured()), "show", tmp_path, moving=False)
    text = page.read_text()
    assert (
        text.count("</script") == 2
        and "Owl of Saltreach" in text
        and "http" not in re.sub(r"[A-Za-z0-9+/=]{200,}", "", text).replace("http-equiv", "")
    )
    encoded = re.search(r'id="mesh">([A-Za-z0-9+/=]+)<', text)[1]
    glb = tmp_path / "inside.glb"
    glb.write_bytes(base64.b64decode(encoded))
    assert len(trimesh.load(glb, force="mesh").faces) == len(coloured().faces)
    with Image.open(still) as picture:
        assert picture.size == (1200, 1200) and picture.mode == "RGBA"
    with pytest.raises(StepNotPossible, match="not built"):
        receiver("show").make(
            ScanState(mesh=coloured()), receiver("show").parameters(), replace(TOLD, viewer=""), tmp_path, silent
        )


def test_an_object_stays_in_the_picture_while_it_turns(tmp_path: Path) -> None:
    (path,) = make(ScanState(mesh=knot_model().mesh), "show", tmp_path, turning=False, still=False)
    tall = []
    with Image.open(path) as turn:
        assert turn.is_animated and turn.n_frames == 36
        for n in range(0, turn.n_frames, 4):
            turn.seek(n)
            solid = np.asarray(turn.convert("RGBA"))[..., 3] > 128
            rows, columns = np.flatnonzero(solid.any(axis=1)), np.flatnonzero(solid.any(axis=0))
            assert min(rows[0], columns[0]) > 0 and max(rows[-1], columns[-1]) < 479
            tall.append(np.ptp(rows))
    assert max(tall) > 0.6 * 480


def test_the_report_tells_size_lengths_passes_and_steps(processed, tmp_path: Path) -> None:
    length = {"name": "rim & neck", "kind": "circle", "value": 41.2537, "sd": 0.004, "rms_mm": 0.02, "caliper_mm": 41.3,
              "places": [[0, 0, 0], [1, 0, 0]]}  # fmt: skip
    state = replace(processed[0], notes={**processed[0].notes, LENGTHS: [length]})
    (path,) = make(state, "report", tmp_path, format="html")
    text = path.read_text()
    summary = summarise_state(state)
    size = " × ".join(f"{v:.2f}" for v in summary["mesh"]["size_mm"])
    for words in (
        size,
        "rim &amp; neck",
        "⌀ 41.254 mm",
        "± 0.008 mm",
        "caliper 41.30",
        "Found &lt;at&gt; low tide",
        "upright",
        "902 k",
    ):
        assert words in text, words
    assert text.count("data:image/png;base64,") == 4 and "<script" not in text and "http" not in text
    brief = make(state, "report", tmp_path, steps=False)[0].read_text()
    assert "902 k" not in brief
    held = run_deviation(state)
    told = make(held, "report", tmp_path, format="html")[0].read_text()
    assert "Deviation" in told and "Take A" in told and "± 0.5 mm" in told
    # An object of nothing but passes has a report as well.
    assert make(replace(state, mesh=None), "report", tmp_path, format="html")[0].read_text().count("data:image") == 0


def test_the_report_on_paper_tells_the_same(processed, tmp_path: Path) -> None:
    page, paper = make(processed[0], "report", tmp_path)
    assert page.suffix == ".html"
    read = PdfReader(paper)
    text = " ".join(p.extract_text() for p in read.pages)
    size = " × ".join(f"{v:.2f}" for v in summarise_state(processed[0])["mesh"]["size_mm"])
    for words in (size, "Found <at> low tide", "Scale and lengths", "902 k", "upright"):
        assert words in text, words
    assert len(read.pages[0].images) == 4 and "report" in read.metadata.title
    # On A4 within its margins, and nothing of it is asked of a network.
    assert [round(float(v)) for v in read.pages[0].mediabox[2:]] == [595, 842]
    assert b"http" not in paper.read_bytes()


def test_a_title_in_any_script_comes_out_of_paper(tmp_path: Path) -> None:
    told = page_of(None, "Łódź <b> Ωmega 🦉", "a & b", {"lengths": [], "passes": []}, ())
    text = PdfReader(io.BytesIO(page_pdf(told))).pages[0].extract_text()
    # The font has no ź and no owl.
    assert "Łódz <b> Ωmega ?" in text and "a & b" in text
    assert page_pdf(told) == page_pdf(told)


def run_deviation(state: ScanState) -> ScanState:
    operation = get_operation("deviation")
    return operation.run(state, operation.parameters(against="Take A", tolerance_mm=0.5), silent)[0]


def test_receivers_say_what_is_missing(processed) -> None:
    summary = summarise_state(processed[0])
    told = {r.name: {c["words"]: c["holds"] for c in r.checks(summary)} for r in RECEIVERS}
    assert told["slicer"]["closed"] and told["slicer"]["upright"] and told["web"]["texture"]
    assert told["cad"]["scale unchecked"] is False
    open_one = {**summary, "mesh": {**summary["mesh"], "watertight": False, "pieces": 3, "triangles": 900_000}}
    words = {c["words"] for c in receiver("slicer").checks(open_one) if not c["holds"]}
    assert {"not closed", "3 pieces", "many triangles: reduced on the way"} <= words
    with pytest.raises(ParameterError, match="no receiver"):
        receiver("moon")
    with pytest.raises(StepNotPossible, match="Fuse first"):
        receiver("web").make(ScanState(), receiver("web").parameters(), TOLD, Path("."), silent)


def test_reducing_keeps_shape_and_colours_in_place() -> None:
    mesh = coloured()
    less = prepared(mesh, {}, silent, triangles=1500)
    assert len(less.faces) <= 1500 and less.texture is not None
    away = np.abs(np.linalg.norm(sample_surface(less, 4000, np.random.default_rng(0)), axis=1) - 20)
    assert away.max() < 0.6
    half_of_both(less.vertices, with_vertex_colours(less).colours, up=2, off=12)
    turned = in_frame(less, "m", "y")
    assert np.allclose(turned.vertices[:, 1], less.vertices[:, 2] / 1000, atol=1e-6)
    assert to_srgb(to_linear(np.uint8([[9, 99, 199]])))[0].tolist() == [9, 99, 199]
