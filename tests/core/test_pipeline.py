"""The whole way on a small lump: figures against the simulator's truth, which only tests may read."""

from dataclasses import replace
from typing import get_type_hints

import numpy as np
import pytest
from scenes import knot_model

from lucid_relic.alignment.find_fit import find_fit
from lucid_relic.alignment.fit_result import Side
from lucid_relic.alignment.settle import settle
from lucid_relic.cleaning.stand import find_plate
from lucid_relic.errors import Cancelled, StepNotPossible
from lucid_relic.geometry.bvh import TriangleTree
from lucid_relic.geometry.pass_points import pass_points
from lucid_relic.geometry.rigid import about_axis, difference, inverse
from lucid_relic.inspection.distance import sample_surface, summarise
from lucid_relic.inspection.mesh_check import check_mesh
from lucid_relic.io.array_store import ArrayStore
from lucid_relic.io.capture_folder import CaptureFolder
from lucid_relic.io.snapshots import load_state, save_state
from lucid_relic.operations import get_operation, list_operations
from lucid_relic.operations.recipe import BUILT_IN, built_in, parse_recipe
from lucid_relic.progress import silent
from lucid_relic.types import ScanState


def relative_error(passes, scanners) -> tuple[float, float]:
    """Degrees and mm (at 260 mm from the head) by which the second pass is off from the first."""
    truth = inverse(scanners[0].truth_poses()[0]) @ scanners[1].truth_poses()[0]
    found = inverse(passes[0].T_object_camera(0)) @ passes[1].T_object_camera(0)
    off = found @ inverse(truth)
    middle = np.array([0, 0, 260.0])
    return difference(found, truth)[0], float(np.linalg.norm(off[:3, :3] @ middle + off[:3, 3] - middle))


def test_second_pass_is_placed_where_it_was(captures, processed) -> None:
    turn, shift = relative_error(processed[0].passes, captures[2:])
    assert turn < 0.3 and shift < 0.3


def test_print_mesh_is_fit_for_print(processed) -> None:
    report = check_mesh(processed[0].mesh)
    assert report.watertight and report.edge_manifold and report.vertex_manifold
    assert report.components == 1 and report.triangles <= 20_000


def test_measured_surface_is_true_and_made_up_area_is_marked(captures, processed) -> None:
    state = processed[0]
    mesh = state.mesh
    T_truth_object = captures[2].truth_poses()[0] @ inverse(state.passes[0].T_object_camera(0))
    moved = mesh.transformed(T_truth_object)
    truth = knot_model().mesh
    seen = summarise(TriangleTree(truth).closest(sample_surface(moved.select_faces(~mesh.made_up), 20_000))[0])
    assert seen["mean_mm"] < 0.12 and seen["p95_mm"] < 0.35
    assert 0.0 < mesh.made_up_area_fraction() < 0.15
    assert mesh.volume_mm3() == pytest.approx(truth.volume_mm3(), rel=0.02)


def test_it_stands_on_the_floor_centred(processed) -> None:
    low, high = processed[0].mesh.vertices.min(0), processed[0].mesh.vertices.max(0)
    assert abs(low[2]) < 1e-3 and np.abs((low + high)[:2]).max() < 1e-2
    assert processed[0].upright


def test_texture_shows_the_albedo_pattern(processed) -> None:
    texture = processed[0].mesh.texture
    assert texture.seen > 0.8 and texture.image.std() > 15
    assert texture.uv.min() >= 0 and texture.uv.max() <= 1


def test_colour_of_seen_vertices_follows_the_hidden_albedo(captures, processed) -> None:
    state = processed[0]
    moved = state.mesh.transformed(captures[2].truth_poses()[0] @ inverse(state.passes[0].T_object_camera(0)))
    hidden = 0.35 + 0.25 * np.sin(moved.vertices / 6.0)
    linear = (state.mesh.colours / 255.0) ** 2.2
    for channel in range(3):
        assert np.corrcoef(hidden[:, channel], linear[:, channel])[0, 1] > 0.85


def test_every_step_reports_figures(processed) -> None:
    names = [step.operation for step, _, _ in processed[1]]
    assert names == [s.operation for s in built_in("print").steps]
    for step, state, report in processed[1]:
        operation = get_operation(step.operation)
        shape = get_type_hints(operation.run)["return"].__args__[1]
        assert shape.__required_keys__ <= set(report) <= shape.__required_keys__ | shape.__optional_keys__, (
            step.operation
        )
        assert operation.headline_of(report), f"{step.operation} has no headline"
        if "triangles" in report:
            assert report["triangles"] == len(state.mesh.faces)
        if "passes" in report:
            assert [p["pass"] for p in report["passes"]] == [p.title for p in state.passes]


def test_axis_is_refined_from_the_data(captures) -> None:
    scan = CaptureFolder(captures[0]).as_pass()
    truth = captures[2].truth_poses()
    worst = []
    for poses in (scan.frame_poses, settle((scan,), silent, cleaned=False).passes[0].frame_poses):
        gauge = truth[0] @ inverse(poses[0])
        off = [gauge @ p @ inverse(t) for p, t in zip(poses, truth, strict=True)]
        middle = np.array([0, 0, 25.0])
        worst.append(max(np.linalg.norm(o[:3, :3] @ middle + o[:3, 3] - middle) for o in off))
    # Within a quarter of the 0.8 mm between this small camera's pixels, from well outside it.
    assert worst[0] > 0.4 and worst[1] < 0.2


def test_a_table_that_turns_the_other_way_is_recognised(captures) -> None:
    scan = CaptureFolder(captures[0]).as_pass()
    table = replace(scan.turntable, degrees=-scan.turntable.degrees)
    wrong = np.stack([about_axis(table.axis_point, table.axis_direction, -a) for a in np.radians(table.degrees)])
    state = ScanState((replace(scan, turntable=table, frame_poses=wrong),))
    operation = get_operation("place_frames")
    _, report = operation.run(state, operation.parameters(), silent)
    assert report["passes"][0]["table_turned_the_other_way"]


def test_plate_is_found_where_it_is(captures) -> None:
    scan = settle((CaptureFolder(captures[0]).as_pass(),), silent, cleaned=False).passes[0]
    plate = find_plate(scan, 0.8)
    T_model_pass = captures[2].truth_poses()[0] @ inverse(scan.frame_poses[0])
    normal = T_model_pass[:3, :3] @ plate.normal
    height = plate.offset + normal @ T_model_pass[:3, 3]
    assert normal[2] > np.cos(np.radians(0.3)) and abs(height) < 0.15


def test_different_objects_are_refused(captures, tmp_path) -> None:
    from scenes import write_capture

    from lucid_relic.capture.model import ScanModel
    from lucid_relic.capture.virtual import TurntablePlan
    from lucid_relic.demo.shapes import box, mesh_of

    other = ScanModel.plain(mesh_of(lambda p: box(p, (0, 0, 12), (25, 15, 12), 3), (-30, -20, -4), (30, 20, 30), 1.2))
    write_capture(tmp_path / "other", other, TurntablePlan(stops=8), seed=9)
    sides = []
    for path in (captures[0], tmp_path / "other"):
        state = ScanState((CaptureFolder(path).as_pass(),))
        for name in ("place_frames", "stand_cut"):
            operation = get_operation(name)
            state, _ = operation.run(state, operation.parameters(), silent)
        sides.append(Side(pass_points(state.passes[0], 1.0), state.passes[0]))
    fit = find_fit(*sides, silent)
    assert not fit.accepted and len(fit.reason) > 20


def test_snapshots_come_back_as_they_were(processed, tmp_path) -> None:
    state, store = processed[0], ArrayStore(tmp_path)
    manifest = save_state(state, store)
    again = load_state(manifest, store, lambda key: CaptureFolder(key).as_pass())
    assert np.array_equal(again.mesh.vertices, state.mesh.vertices)
    assert np.array_equal(again.mesh.texture.image, state.mesh.texture.image)
    assert np.array_equal(again.passes[1].T_object_pass, state.passes[1].T_object_pass)
    files = len(list(tmp_path.rglob("*.npy")))
    assert save_state(state, store) == manifest and len(list(tmp_path.rglob("*.npy"))) == files


def test_cancel_stops_an_operation(processed) -> None:
    def stop(fraction: float, message: str) -> None:
        if fraction > 0.3:
            raise Cancelled

    operation = get_operation("fuse")
    with pytest.raises(Cancelled):
        operation.run(processed[1][4][1], operation.parameters(voxel_mm=2.0), stop)


@pytest.mark.parametrize("name", [o.name for o in list_operations()])
def test_every_operation_refuses_an_empty_object_and_says_what_comes_first(name: str) -> None:
    operation = get_operation(name)
    with pytest.raises(StepNotPossible, match=r"first\.$"):
        operation.run(ScanState(), operation.parameters(), silent)
    if operation.preview is not None:
        with pytest.raises(StepNotPossible, match=r"first\.$"):
            operation.preview(ScanState(), operation.parameters())


def test_parameters_check_themselves() -> None:
    from lucid_relic.errors import ParameterError

    fuse = get_operation("fuse").parameters
    assert fuse.from_dict({"voxel_mm": "0.5"}).voxel_mm == 0.5
    for bad in ({"voxel": 1}, {"voxel_mm": -1}, {"voxel_mm": "wide"}, {"voxel_mm": float("nan")}):
        with pytest.raises(ParameterError):
            fuse.from_dict(bad)
    assert all(p["help"] for o in list_operations() for p in o.parameters.describe())


def test_recipes_are_checked_before_anything_runs() -> None:
    from lucid_relic.errors import ParameterError

    assert [built_in(name).name for name in BUILT_IN] == list(BUILT_IN)
    for text in (
        "[]",
        "{",
        '{"steps": [{"operation": "melt"}]}',
        '{"steps": [{"operation": "fuse", "parameters": {"x": 1}}]}',
    ):
        with pytest.raises(ParameterError):
            parse_recipe(text, "mine.json")
