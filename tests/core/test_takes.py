"""Takes beside each other, the forecast of a fusion, swallowed detail, and a place fused finer, on analytic fields."""

from pathlib import Path

import numpy as np
import pytest
from scenes import rendered_state, ring_of_views

from lucid_relic.errors import ParameterError, StepNotPossible
from lucid_relic.fusion.forecast import forecast_fusion
from lucid_relic.fusion.swallowed import find_swallowed
from lucid_relic.fusion.tsdf import forecast_bytes
from lucid_relic.inspection.findings import findings
from lucid_relic.inspection.mesh_check import check_mesh
from lucid_relic.inspection.summary import summarise_state
from lucid_relic.io.array_store import ArrayStore
from lucid_relic.io.snapshots import StoredShape, load_state, save_state
from lucid_relic.operations import get_operation
from lucid_relic.progress import silent
from lucid_relic.types import BallStroke, Camera, Marks, ScanState

RADIUS, DEEP, WAVE = 20.0, 0.35, 2.4
CAMERA = Camera.centred(260, 200, 420.0)


def ridged(p: np.ndarray) -> np.ndarray:
    """A ball whose upper side carries ridges across x, a wave of 2.4 mm and 0.35 mm deep, fading out below."""
    ball = np.linalg.norm(p, axis=1) - RADIUS
    return 0.7 * (ball + DEEP * np.sin(2 * np.pi * p[:, 0] / WAVE) * np.clip((p[:, 2] - 8) / 4, 0, 1))


@pytest.fixture(scope="module")
def seen() -> ScanState:
    poses = ring_of_views(8, 130.0, (15.0, 55.0), (0, 0, 0))
    return rendered_state(ridged, poses, CAMERA, noise_mm=0.01)


def run(state: ScanState, name: str, **parameters) -> tuple[ScanState, dict]:
    step = get_operation(name)
    return step.run(state, step.parameters.from_dict(parameters), silent)


@pytest.fixture(scope="module")
def fused(seen: ScanState) -> ScanState:
    return run(seen, "fuse", voxel_mm=1.2)[0]


def test_each_fusion_becomes_a_take_and_one_is_used(fused: ScanState, tmp_path: Path) -> None:
    state, report = run(fused, "fuse", voxel_mm=0.8, character="crisp", take="fine")
    assert [t.name for t in state.takes] == ["Take A", "fine"] and report["take"] == "fine"
    told = summarise_state(state)
    assert told["of_take"] == "fine" and [t["voxel_mm"] for t in told["takes"]] == [1.2, 0.8]
    back, used = run(state, "takes", take="Take A")
    assert back.mesh is fused.mesh and back.volume is fused.volume and summarise_state(back)["of_take"] == "Take A"
    assert get_operation("takes").headline_of(used).startswith("Take A, ")
    # Fused alike once more it is the same take; in another way it gets the next letter.
    assert [t.name for t in run(state, "fuse", voxel_mm=1.2)[0].takes] == ["fine", "Take A"]
    assert [t.name for t in run(state, "fuse", voxel_mm=2.0)[0].takes] == ["Take A", "fine", "Take B"]
    left, report = run(state, "takes", what="put_away")
    assert [t.name for t in left.takes] == ["Take A"] == report["takes"] and left.mesh is state.mesh
    # A stored take is read when it is asked for, and stored again by its name alone.
    store = ArrayStore(tmp_path)
    manifest = save_state(state, store)
    source = {p.source.key: p for p in state.passes}
    again = load_state(manifest, store, lambda key: source[key])
    assert all(isinstance(t.shape, StoredShape) for t in again.takes)
    assert np.array_equal(again.takes[0].shape.mesh().vertices, fused.mesh.vertices)
    assert run(again, "takes", take="Take A")[0].volume.voxel_mm == 1.2
    assert save_state(again, store)["takes"] == manifest["takes"]


def test_a_take_that_is_not_there_is_named(fused: ScanState, seen: ScanState) -> None:
    with pytest.raises(StepNotPossible, match="no take “other”; there are: Take A"):
        run(fused, "takes", take="other")
    with pytest.raises(StepNotPossible, match="Fuse first"):
        run(seen, "takes")
    with pytest.raises(ParameterError, match="60 characters"):
        run(seen, "fuse", voxel_mm=2.0, take="a" * 61)


@pytest.mark.parametrize("voxel", [0.6, 0.8, 1.2])
def test_the_forecast_holds_within_15_percent(seen: ScanState, voxel: float) -> None:
    told = forecast_fusion(seen, voxel)
    state, report = run(seen, "fuse", voxel_mm=voxel)
    assert told.triangles == pytest.approx(report["triangles"], rel=0.15)
    assert told.memory_bytes / 1e9 == pytest.approx(report["memory_forecast_gb"], rel=0.15, abs=0.0005)
    # The surface while it is made needs more than its blocks: corners and normals alone are 36 bytes a triangle.
    assert told.memory_bytes > forecast_bytes(told.blocks) + 36 * report["triangles"]
    assert told.finest_mm >= 2 * voxel and told.free_bytes > told.memory_bytes
    step = get_operation("fuse")
    figures = step.preview(seen, step.parameters(voxel_mm=voxel)).figures
    assert figures["triangles"] == told.triangles and figures["seconds"] > 0


def test_what_a_surface_does_not_go_through_is_found_where_it_is(fused: ScanState) -> None:
    voxel = fused.volume.voxel_mm
    assert find_swallowed(fused, fused.mesh, voxel) == [] and not summarise_state(fused)["swallowed"]
    place = np.array([0, 0, 20.0])
    torn = fused.mesh.select_faces(np.linalg.norm(fused.mesh.face_centres() - place, axis=1) > 8)
    [found] = find_swallowed(fused, torn, voxel)
    assert np.linalg.norm(found.at - place) < 5 and found.off_mm > 2 * voxel and 5 < found.wide_mm < 18
    notes = {"swallowed": [{"at": [0, 0, 20], "off_mm": 2.5, "wide_mm": 9.0}]}
    told = findings(summarise_state(ScanState(fused.passes, fused.volume, fused.mesh, notes=notes)))
    [finding] = [f for f in told if f["kind"] == "swallowed detail"]
    assert finding["operation"] == "local_detail" and finding["place"] == [0, 0, 20] and finding["figure"] == "2.50 mm"


def error_on_top(state: ScanState) -> float:
    """Root mean square distance of the corners on the ridged top from the field that was rendered."""
    p = state.mesh.vertices.astype(np.float64)
    top = np.linalg.norm(p - [0, 0, RADIUS], axis=1) < 5
    return float(np.sqrt((ridged(p[top]) ** 2).mean())) / 0.7


def test_a_marked_place_is_fused_finer_without_a_crack(fused: ScanState) -> None:
    marks = Marks((BallStroke(((0.0, 0.0, 20.0),), 8.0),))
    after, report = run(fused, "local_detail", marks=marks, voxel="quarter")
    before, now = check_mesh(fused.mesh), check_mesh(after.mesh)
    assert now.holes == before.holes and now.edge_manifold and now.vertex_manifold and now.self_intersections == 0
    assert report["voxel_mm"] == pytest.approx(0.3) and report["triangles"] == now.triangles > before.triangles
    assert error_on_top(after) < 0.5 * error_on_top(fused)
    # What is not marked stays to the bit, and the cost is that of the place, not of the whole.
    far = lambda s: s.mesh.vertices[s.mesh.vertices[:, 2] < 5]  # noqa: E731
    assert np.array_equal(far(after), far(fused))
    assert now.triangles < 0.3 * len(run(fused, "fuse", voxel_mm=0.3)[0].mesh.faces)


def test_local_detail_needs_a_place_that_was_measured(fused: ScanState) -> None:
    with pytest.raises(StepNotPossible, match="Nothing of the mesh is marked"):
        run(fused, "local_detail")
    closed = run(fused, "close")[0]
    below = Marks((BallStroke(((0.0, 0.0, float(closed.mesh.vertices[:, 2].min())),), 4.0),))
    with pytest.raises(StepNotPossible, match="No frame measured anything there"):
        run(closed, "local_detail", marks=below)
