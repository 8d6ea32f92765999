"""Set by hand: every way to stand an object up, true scale over everything, and lengths that stay with it."""

from dataclasses import replace

import numpy as np
import pytest
import trimesh
from scenes import cloud_pass, knot_model, uv_sphere
from scipy.spatial.transform import Rotation

from lucid_relic.demo.shapes import box, capsule, mesh_of, revolved, smooth_union, sphere
from lucid_relic.errors import StepNotPossible
from lucid_relic.geometry.bvh import TriangleTree
from lucid_relic.geometry.depth_map import frame_map
from lucid_relic.geometry.rigid import from_rotvec, transform_points
from lucid_relic.inspection.summary import LENGTHS, SCALE, summarise_state
from lucid_relic.io.array_store import ArrayStore
from lucid_relic.io.capture_folder import CaptureFolder
from lucid_relic.io.snapshots import load_state, save_state
from lucid_relic.operations import get_operation
from lucid_relic.placement.measures import measured
from lucid_relic.placement.stand_up import Stance, resting_way, standing_motion
from lucid_relic.progress import silent
from lucid_relic.types import BallStroke, HeldShape, Marks, ScanState, Take, TriangleMesh

TURNS = Rotation.random(4, random_state=3).as_matrix()
JAR = [(0, 60), (12, 60), (13, 52), (20, 40), (24, 26), (22, 10), (16, 0), (0, 0)]


def run(state: ScanState, operation_name: str, /, **parameters):
    operation = get_operation(operation_name)
    return operation.run(state, operation.parameters.from_dict(parameters), silent)


def bodies() -> dict[str, TriangleMesh]:
    """Bodies that stand on z = 0 one way that anybody would put them."""
    made = {
        "jar": (lambda p: revolved(p, JAR), (-28, -28, -3), (28, 28, 64)),
        "lump": (None, None, None),
        "cup on a base": (
            lambda p: smooth_union(box(p, (0, 0, 4), (22, 22, 4), 1), sphere(p, (0, 0, 26), 17), 3),
            (-26, -26, -3), (26, 26, 46),
        ),
        "hook": (
            lambda p: smooth_union(box(p, (0, 0, 3), (20, 14, 3), 1), capsule(p, (0, 0, 12), (4, 2, 40), 6, 4), 4),
            (-24, -18, -3), (24, 18, 48),
        ),
    }  # fmt: skip
    return {
        name: knot_model().mesh if field is None else mesh_of(field, low, high, 1.0)
        for name, (field, low, high) in made.items()
    }


@pytest.mark.parametrize("name", bodies())
def test_without_a_plate_it_stands_as_one_would_put_it(name: str) -> None:
    mesh = bodies()[name]
    for turn in TURNS:
        lying = np.eye(4)
        lying[:3, :3], lying[:3, 3] = turn, [30, -200, 7]
        motion, by = standing_motion(ScanState(mesh=mesh.transformed(lying)))
        up = motion[:3, :3] @ turn @ [0, 0, 1]
        assert by == "foot" and np.degrees(np.arccos(min(up[2], 1))) < 1.0
        stands = transform_points(motion @ lying, mesh.vertices.astype(float))
        assert stands[:, 2].min() == pytest.approx(0, abs=1e-3)


def test_what_is_round_rests_on_its_widest_side() -> None:
    ball = uv_sphere(20)
    egg = replace(ball, vertices=ball.vertices * np.float32([1, 1.2, 1.5]))
    assert abs(resting_way(egg)[0]) > 0.99
    up = standing_motion(ScanState(mesh=egg), Stance("axes"))[0][2, :3]
    assert np.abs(up).max() > 0.999
    with pytest.raises(StepNotPossible, match="plate"):
        standing_motion(ScanState(mesh=ball), Stance("plate"))
    sheet = TriangleMesh(np.float32([[0, 0, 0], [1, 0, 0], [0, 1, 0]]), np.int32([[0, 1, 2]]))
    assert standing_motion(ScanState(mesh=sheet))[1] == "principal axes"
    with pytest.raises(StepNotPossible, match="three places"):
        standing_motion(ScanState(mesh=sheet), Stance("plane"))


def test_places_and_planes_are_exact() -> None:
    mesh = knot_model().mesh
    rng = np.random.default_rng(2)
    for turn in TURNS:
        lying = np.eye(4)
        lying[:3, :3] = turn
        state = ScanState(mesh=mesh.transformed(lying))
        level = np.array([[-20, -10, 0], [18, -12, 0], [2, 16, 0.0]]) + [0, 0, rng.uniform(-5, 0)]
        places = (level @ turn.T).tolist()
        plane = [*turn[:, 2], 4.0]
        for parameters in ({"by": "places", "places": places}, {"places": places}, {"by": "plane", "plane": plane}):
            after, report = run(state, "stand_up", **parameters)
            motion = standing_motion(state, Stance("plane", tuple(plane)))[0]
            assert motion[:3, :3] @ turn @ [0, 0, 1] == pytest.approx([0, 0, 1], abs=np.radians(0.1))
            assert report["up_from"] in ("places", "plane") and after.upright
            tall = np.ptp(after.mesh.vertices[:, 2])
            assert tall == pytest.approx(np.ptp(mesh.vertices[:, 2]), abs=0.02)
            assert after.mesh.vertices[:, 2].min() == pytest.approx(0, abs=1e-3)


def test_front_and_centre_are_chosen() -> None:
    mesh = knot_model().mesh
    state = ScanState(mesh=mesh)
    # The horn's tip (22, 14, 52) shall look forward: towards -y.
    after, _ = run(state, "stand_up", by="plane", plane=[0, 0, 1, 0], front=[22, 14, 52])
    tip = after.mesh.vertices[np.argmin(np.linalg.norm(mesh.vertices - [22, 14, 52], axis=1))]
    assert tip[1] < -15 and abs(tip[0]) < 6
    turned, _ = run(state, "stand_up", by="plane", plane=[0, 0, 1, 0], front=[22, 14, 52], turn_deg=90)
    tip = turned.mesh.vertices[np.argmin(np.linalg.norm(mesh.vertices - [22, 14, 52], axis=1))]
    assert tip[0] > 15
    middle, _ = run(state, "stand_up", by="plane", plane=[0, 0, 1, 0], centre="middle")
    assert (middle.mesh.vertices.max(axis=0) + middle.mesh.vertices.min(axis=0))[:2] == pytest.approx([0, 0], abs=1e-3)
    at, _ = run(state, "stand_up", by="plane", plane=[0, 0, 1, 0], centre=[22, 14, 52])
    tip = at.mesh.vertices[np.argmin(np.linalg.norm(mesh.vertices - [22, 14, 52], axis=1))]
    assert np.abs(tip[:2]).max() < 2.0
    foot, _ = run(state, "stand_up", by="plane", plane=[0, 0, 1, 0], centre="foot")
    low = foot.mesh.vertices[foot.mesh.vertices[:, 2] < 0.5]
    assert (low.max(axis=0) + low.min(axis=0))[:2] == pytest.approx([0, 0], abs=0.5)
    lid = [[10, 0, 40], [-10, 8, 40], [0, -9, 40]]
    for of, way in (("top", 1), ("foot", -1)):
        stance = Stance("places", places=tuple(map(tuple, lid)), places_of=of)
        assert standing_motion(state, stance)[0][2, 2] == pytest.approx(way)
    for wrong in ([[0, 0, 0], [1, 0, 0]], [[0, 0, 0], [1, 0, 0], [2, 0, 0]]):
        with pytest.raises(StepNotPossible, match="places"):
            run(state, "stand_up", by="places", places=wrong)


def test_a_place_and_its_notes_move_with_the_object() -> None:
    mesh = knot_model().mesh
    noted = {"swallowed": [{"at": [22.0, 14.0, 52.0], "off_mm": 1.0}], LENGTHS: []}
    take = Take("Take A", {"triangles": len(mesh.faces)}, HeldShape(mesh, None))
    lying = ScanState(mesh=mesh, notes=noted, takes=(take,))
    state, _ = run(lying, "stand_up", by="plane", plane=[0, 1, 0, 0])
    assert np.allclose(state.takes[0].mesh().vertices, state.mesh.vertices, atol=1e-4)
    assert state.takes[0].volume() is None
    near = np.argmin(np.linalg.norm(mesh.vertices - [22, 14, 52], axis=1))
    assert np.linalg.norm(state.mesh.vertices[near] - state.notes["swallowed"][0]["at"]) < 4
    assert lying.notes["swallowed"][0]["at"] == [22.0, 14.0, 52.0]


def test_scale_makes_everything_what_the_caliper_reads(captures, processed, tmp_path) -> None:
    state = processed[0]
    low, high = state.mesh.vertices.argmin(axis=0)[2], state.mesh.vertices.argmax(axis=0)[2]
    ends = state.mesh.vertices[[low, high]].astype(float)
    ends[1] = ends[0] + (ends[1] - ends[0]) * 99.2 / np.linalg.norm(ends[1] - ends[0])
    state, report = run(state, "measure", places=ends.tolist(), caliper_mm=100.0)
    assert report["value"] == pytest.approx(99.2) and report["name"] == "L1"
    angle, _ = run(state, "measure", of="angle", places=[[1, 0, 0], [0, 0, 0], [0, 2, 0]], name="corner")
    after, told = run(angle, "set_scale", places=ends.tolist(), true_mm=100.0)
    factor = 100 / 99.2
    assert told["factor"] == pytest.approx(factor) and told["plausible"] and told["after_mm"] == pytest.approx(100)
    length, corner = after.notes[LENGTHS]
    assert (
        length["value"] == pytest.approx(100.0)
        and length["caliper_mm"] == 100.0
        and corner["value"] == pytest.approx(90)
    )
    assert np.linalg.norm(np.subtract(*length["places"])) == pytest.approx(100.0, abs=1e-3)
    assert after.notes[SCALE]["by_caliper"] and summarise_state(after)["scale"]["factor"] == pytest.approx(factor)
    # Passes, frames, takes and what follows from them are scaled together.
    assert np.allclose(after.mesh.vertices, state.mesh.vertices * factor, rtol=1e-5)
    for before, scan in zip(state.passes, after.passes, strict=True):
        was, now = frame_map(before, 2), frame_map(scan, 2)
        mask = was.fitted > 0
        own = transform_points(before.T_object_camera(2), was.points(mask).astype(float))
        new = transform_points(scan.T_object_camera(2), now.points(mask).astype(float))
        assert np.allclose(new, own * factor, atol=0.01)
        assert scan.noise_mm == pytest.approx(before.noise_mm * factor)
    assert np.allclose(after.takes[0].mesh().vertices, state.takes[0].mesh().vertices * factor, rtol=1e-5)
    # Stored and opened again it is the same; scaled back it is what it was.
    store = ArrayStore(tmp_path)
    folders = {CaptureFolder(p).key: p for p in captures[:2]}
    again = load_state(save_state(after, store), store, lambda key: CaptureFolder(folders[key]).as_pass())
    assert np.array_equal(frame_map(again.passes[0], 1).fitted, frame_map(after.passes[0], 1).fitted)
    assert again.passes[0].scale == pytest.approx(factor) and again.takes[0].mesh().vertices.shape
    back, _ = run(again, "set_scale", factor=1 / factor)
    assert np.allclose(back.mesh.vertices, state.mesh.vertices, atol=1e-4)
    # Fused anew it comes out in the new size.
    fused, _ = run(after, "fuse", voxel_mm=1.5)
    _, away = nearest_on(after.mesh, fused.mesh)
    assert np.percentile(away, 80) < 0.15
    _, unscaled = nearest_on(state.mesh, fused.mesh)
    assert np.percentile(unscaled, 80) > 1.5 * np.percentile(away, 80)


def nearest_on(mesh: TriangleMesh, other: TriangleMesh) -> tuple[np.ndarray, np.ndarray]:
    """Feet of the vertices of another mesh, and how far they are (mm)."""
    foot, _, _ = TriangleTree(mesh).foot(other.vertices.astype(float))
    return foot, np.linalg.norm(other.vertices - foot, axis=1)


def test_scale_says_what_is_missing_and_what_is_not_plausible() -> None:
    state = ScanState(mesh=uv_sphere(50))
    with pytest.raises(StepNotPossible, match="caliper reads"):
        run(state, "set_scale")
    with pytest.raises(StepNotPossible, match="caliper reads"):
        run(state, "set_scale", places=[[0, 0, -50], [0, 0, 50]])
    with pytest.raises(StepNotPossible, match="1 of 2"):
        run(state, "set_scale", places=[[0, 0, -50]], true_mm=5)
    with pytest.raises(StepNotPossible, match="are one"):
        run(state, "set_scale", places=[[0, 0, 1], [0, 0, 1]], true_mm=5)
    _, report = run(state, "set_scale", places=[[0, 0, -50], [0, 0, 50]], true_mm=103)
    assert not report["plausible"]


def test_what_is_measured_between_two_faces_is_told_before_it_is_scaled() -> None:
    made = trimesh.creation.box((40, 30, 20)).subdivide().subdivide().subdivide()
    state = ScanState(mesh=TriangleMesh(made.vertices.astype(np.float32), made.faces.astype(np.int32)))
    step, aslant = get_operation("set_scale"), [[-20, 3, 2], [20, -6, 5]]
    told = lambda across: step.preview(state, step.parameters(places=aslant, across=across)).figures["before_mm"]  # noqa: E731
    assert told("planes") == pytest.approx(40, abs=1e-4) and told("places") == pytest.approx(np.sqrt(1690), abs=1e-4)
    with pytest.raises(StepNotPossible, match="Pick two places"):
        step.preview(state, step.parameters())


def test_points_without_frames_are_scaled_too(tmp_path) -> None:
    scan = cloud_pass(knot_model().mesh, tmp_path / "lump")
    after = scan.scaled(2.0)
    assert (
        np.allclose(after.cloud.cloud.points, 2 * scan.cloud.cloud.points)
        and after.cloud.spacing_mm == 2 * scan.cloud.spacing_mm
    )


@pytest.mark.parametrize("kind", ["sphere", "cylinder"])
def test_fitted_forms_agree_with_closed_truth_within_the_noise(kind: str) -> None:
    rng = np.random.default_rng(5)
    noise, errors, told = 0.05, [], []
    for _ in range(12):
        radius = rng.uniform(8, 30)
        mesh = uv_sphere(radius, 48, 96) if kind == "sphere" else TriangleMesh(*fine_tube(radius))
        normals = mesh.vertex_normals().astype(float)
        noisy = mesh.vertices + normals * rng.normal(0, noise, (len(normals), 1))
        motion = from_rotvec(rng.normal(size=3), rng.normal(0, 50, 3))
        mesh = replace(mesh, vertices=transform_points(motion, noisy).astype(np.float32))
        # A part of it, as a hand marks it: what faces one side.
        part = (mesh.face_normals() @ motion[:3, 0]) > 0
        found = measured(mesh, kind, (), part)
        errors.append(found.value - 2 * radius)
        told.append(found.sd)
        assert found.rms_mm == pytest.approx(noise, rel=0.15)
        # The noise over √n, times how little half of the form tells of its radius.
        assert found.sd < 12 * noise / np.sqrt(found.count)
    z = np.array(errors) / np.array(told)
    assert np.abs(z).max() < 4 and np.sqrt((z**2).mean()) < 1.8


def fine_tube(radius: float) -> tuple[np.ndarray, np.ndarray]:
    """Vertices and faces of an open tube, 60 mm long, facing out."""
    n, m = 120, 60
    a, z = np.meshgrid(np.arange(n) * 2 * np.pi / n, np.linspace(0, 60, m), indexing="ij")
    vertices = np.stack([radius * np.cos(a), radius * np.sin(a), z], axis=-1).reshape(-1, 3)
    grid = np.arange(n * m).reshape(n, m)
    i = np.roll(grid, -1, axis=0)
    quads = np.stack([grid[:, :-1], i[:, :-1], i[:, 1:], grid[:, 1:]], -1).reshape(-1, 4)
    return vertices.astype(np.float32), np.concatenate([quads[:, [0, 1, 2]], quads[:, [0, 2, 3]]]).astype(np.int32)


def test_circles_angles_and_planes() -> None:
    around = np.linspace(0, 5, 7)
    ring = np.stack([12.5 * np.cos(around), 12.5 * np.sin(around), np.full(7, 3.0)], axis=1) + [4, 5, 6]
    ball = uv_sphere(20)
    assert measured(ball, "circle", tuple(map(tuple, ring))).value == pytest.approx(25.0, abs=1e-6)
    assert measured(ball, "angle", ((1, 0, 0), (0, 0, 0), (1, 1, 0))).value == pytest.approx(45)
    block = mesh_of(lambda p: box(p, (0, 0, 0), (20, 15, 10)), (-23, -18, -13), (23, 18, 13), 1.0)
    apart = measured(block, "planes", ((2.0, 3.0, 10.0), (-5.0, 1.0, -10.0)))
    assert apart.value == pytest.approx(20, abs=0.02) and apart.rms_mm < 0.05
    with pytest.raises(StepNotPossible, match="not parallel"):
        measured(block, "planes", ((0, 0, 10), (20, 0, 0)))
    with pytest.raises(StepNotPossible, match="line"):
        measured(block, "circle", ((0, 0, 0), (1, 0, 0), (2, 0, 0)))
    with pytest.raises(StepNotPossible, match="Mark the part"):
        measured(block, "sphere", ())
    with pytest.raises(StepNotPossible, match="2 of 3"):
        measured(block, "angle", ((0, 0, 0), (1, 0, 0)))


def test_lengths_are_named_kept_replaced_and_taken_off() -> None:
    state = ScanState(mesh=uv_sphere(20, 64, 128))
    state, one = run(state, "measure", places=[[0, 0, -20], [0, 0, 20]])
    state, two = run(state, "measure", of="sphere", marks={"strokes": [ball_stroke()], "invert": False}, name="knob")
    assert (one["name"], two["name"]) == ("L1", "knob") and two["value"] == pytest.approx(40, abs=0.01)
    assert get_operation("measure").headline_of(two) == "knob: ⌀ 40.00 mm"
    state, _ = run(state, "measure", places=[[20, 0, 0], [0, 20, 0]], name="L1")
    assert [entry["name"] for entry in state.notes[LENGTHS]] == ["knob", "L1"]
    assert [entry["value"] for entry in summarise_state(state)["lengths"]][1] == pytest.approx(20 * np.sqrt(2))
    left, report = run(state, "take_off_length", name="knob")
    assert report["left"] == 1 and [entry["name"] for entry in left.notes[LENGTHS]] == ["L1"]
    with pytest.raises(StepNotPossible, match="no length"):
        run(left, "take_off_length", name="knob")


def ball_stroke() -> dict:
    return {"shape": "ball", "centres": [[0, 0, 20]], "radius_mm": 12, "add": True}


def test_strokes_mark_what_is_measured() -> None:
    marks = Marks((BallStroke(((0.0, 0.0, 20.0),), 12.0),))
    state = ScanState(mesh=uv_sphere(20, 64, 128))
    operation = get_operation("measure")
    _, report = operation.run(state, operation.parameters(of="sphere", marks=marks), silent)
    assert 200 < report["count"] < len(state.mesh.vertices) / 3 and report["sd"] < 0.01
