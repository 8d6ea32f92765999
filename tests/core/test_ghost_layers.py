"""Ghost layers, passes off and on, and how far passes lie off each other, on the lump captured twice."""

from dataclasses import replace

import numpy as np
import pytest
from scenes import cloud_pass, grid_plane

from lucid_relic.alignment.ghosts import find_ghosts
from lucid_relic.errors import ParameterError, StepNotPossible
from lucid_relic.geometry.rigid import difference, inverse
from lucid_relic.inspection.findings import findings
from lucid_relic.inspection.summary import summarise_state
from lucid_relic.io.array_store import ArrayStore
from lucid_relic.io.results import run_report
from lucid_relic.io.snapshots import load_state, save_state
from lucid_relic.operations import get_operation
from lucid_relic.progress import silent
from lucid_relic.types import PointCloud, ScanState
from lucid_relic.view.packing import unpack_arrays
from lucid_relic.view.pass_view import pass_view
from lucid_relic.view.shift import NOT_KNOWN, packed_shift, pass_shift

OFF = np.array([0.24, -0.12, 0.13])  # mm: 0.3 mm of noise of about 0.07


@pytest.fixture(scope="module")
def settled(processed) -> ScanState:
    """Both passes of the lump after settle."""
    return next(state for step, state, _ in processed[1] if step.operation == "settle")


def run(state: ScanState, name: str, **parameters) -> tuple[ScanState, dict]:
    step = get_operation(name)
    return step.run(state, step.parameters.from_dict(parameters), silent)


def shifted(state: ScanState, number: int, first: int, last: int) -> ScanState:
    """The state with some frames of a pass standing off by `OFF`."""
    scan = state.passes[number]
    poses = scan.frame_poses.copy()
    poses[first : last + 1, :3, 3] += OFF
    return state.with_pass(number, replace(scan, frame_poses=poses))


def kinds(state: ScanState) -> list[str]:
    return [f["kind"] for f in findings(summarise_state(state))]


def test_frames_that_agree_raise_no_alarm(settled: ScanState) -> None:
    assert find_ghosts(settled.passes) == []
    after, report = run(settled, "ghost_layers")
    assert report["found"] == report["left"] == [] and "ghost layer" not in kinds(after)
    assert get_operation("ghost_layers").headline_of(report) == "none"


@pytest.mark.parametrize(("number", "first", "last"), [(0, 3, 5), (1, 0, 4), (0, 2, 9)])
def test_a_range_of_shifted_frames_is_found_and_named_even_as_the_most_of_one_side(
    settled: ScanState, number: int, first: int, last: int
) -> None:
    [ghost] = find_ghosts(shifted(settled, number, first, last).passes)
    assert ghost.pass_index == number and ghost.frames.tolist() == list(range(first, last + 1))
    # Seen along normals that look every way, a shift stands off by its length through √3, more or less.
    assert 0.4 * np.linalg.norm(OFF) < ghost.apart_mm < 0.9 * np.linalg.norm(OFF)
    assert ghost.noises == pytest.approx(ghost.apart_mm / settled.passes[0].noise_mm, rel=0.35)


def test_moved_onto_the_others_they_lie_where_they_did(settled: ScanState) -> None:
    after, report = run(shifted(settled, 0, 3, 6), "ghost_layers", mend="move")
    assert [g["frames"] for g in report["found"]] == [[3, 4, 5, 6]] and report["left"] == [] and report["rounds"] == 2
    for n, scan in enumerate(after.passes):
        for i in scan.frames_used():
            turn, shift = difference(scan.T_object_camera(i), settled.passes[n].T_object_camera(i))
            assert turn < 0.06 and shift < 0.25, (n, i)  # the camera stands 250 mm off: 0.06° of it are 0.25 mm
    off = [inverse(settled.passes[0].T_object_camera(i)) @ after.passes[0].T_object_camera(i) for i in (3, 4, 5, 6)]
    middle = np.array([0, 0, 250.0, 1.0])
    assert max(np.linalg.norm((m @ middle - middle)[:3]) for m in off) < 0.05


def test_left_out_or_without_their_skin_nothing_is_found_any_more(settled: ScanState) -> None:
    wrong = shifted(settled, 1, 2, 4)
    noted, report = run(wrong, "ghost_layers", mend="nothing")
    assert len(report["left"]) == 1 and "ghost layer" in kinds(noted)
    assert all(np.array_equal(a.frame_poses, b.frame_poses) for a, b in zip(noted.passes, wrong.passes, strict=True))
    [finding] = [f for f in findings(summarise_state(noted)) if f["kind"] == "ghost layer"]
    assert "Frames 3 to 5" in finding["detail"] and finding["operation"] == "ghost_layers" and finding["place"]

    left_out, _ = run(noted, "ghost_layers", mend="leave_out")
    assert not left_out.passes[1].frame_in[2:5].any() and "ghost layer" not in kinds(left_out)

    without, report = run(wrong, "ghost_layers", mend="take_skin")
    assert report["points_gone"] > 1000 and without.passes[1].frame_in.all()
    taken = ~without.passes[1].keep & wrong.passes[1].keep
    assert taken[2:5].any() and not taken[:2].any() and not taken[5:].any()
    # By hand out and in again: what is out lays no ghost layer.
    by_hand, _ = run(noted, "leave_out", **{"pass": "tipped"}, frames=[2, 3, 4])
    assert "ghost layer" not in kinds(by_hand)


def test_settle_tells_of_ghosts_and_mends_them_itself(settled: ScanState) -> None:
    after, report = run(shifted(settled, 0, 4, 7), "settle", drop_bad=False)
    assert report["ghosts"] == [] and "ghost layer" not in kinds(after)


def test_ghosts_are_marked_before_anything_is_done(settled: ScanState) -> None:
    wrong = shifted(settled, 0, 3, 5)
    step = get_operation("ghost_layers")
    preview = step.preview(wrong, step.parameters())
    assert preview.figures["found"][0]["frames"] == [3, 4, 5]
    flags = np.unpackbits(preview.layers[0].arrays["flags"], bitorder="little").astype(bool)
    view = pass_view(wrong.passes[0])
    assert np.array_equal(flags[: len(view)], np.isin(view.frame, [3, 4, 5]))


def test_what_has_no_frames_or_no_poses_is_refused_in_words(settled: ScanState, tmp_path) -> None:
    cloud = cloud_pass(PointCloud(grid_plane(20, 20, 1.0).vertices), tmp_path / "points")
    with pytest.raises(StepNotPossible, match="without frames"):
        run(ScanState((replace(cloud, placed=True),)), "ghost_layers")
    with pytest.raises(StepNotPossible, match="“upright” are not placed yet"):
        run(settled.with_pass(0, replace(settled.passes[0], posed=False)), "ghost_layers")
    with pytest.raises(ParameterError):
        run(settled, "ghost_layers", mend="burn")


def test_a_pass_that_is_off_is_in_nothing_and_comes_back_as_it_was(settled: ScanState, tmp_path) -> None:
    without, report = run(settled, "switch_passes", off=["tipped"])
    assert report["off"] == ["tipped"] and report["on"] == ["upright"]
    assert report["lost_cm2"] > 1 and report["seen_cm2"] > 10
    assert [p.title for p in without.used_passes()] == ["upright"]
    fused, _ = run(without, "fuse", voxel_mm=2.0)
    alone, _ = run(replace(settled, passes=settled.passes[:1]), "fuse", voxel_mm=2.0)
    np.testing.assert_array_equal(fused.mesh.vertices, alone.mesh.vertices)
    assert [p.title for p in fused.passes] == ["upright", "tipped"] and fused.passes[1] is without.passes[1]
    told = run_report(fused, [])
    assert told["accepted"] and told["not_placed"] == []

    # Off it is asked for nothing, on again the surface tells that it lacks it.
    assert "shifted pass" not in kinds(without) and "other passes" not in kinds(fused)
    both, _ = run(fused, "switch_passes")
    [finding] = [f for f in findings(summarise_state(both)) if f["kind"] == "other passes"]
    assert "“tipped” is not in it" in finding["detail"] and finding["operation"] == "fuse"
    assert not both.passes[1].off and np.array_equal(both.passes[1].T_object_pass, settled.passes[1].T_object_pass)
    assert "“tipped” is switched off" in findings_detail(
        run(with_surface_of_both(settled), "switch_passes", off=["tipped"])[0]
    )

    store = ArrayStore(tmp_path)
    sources = {p.source.key: p for p in settled.passes}
    back = load_state(save_state(without, store), store, lambda key: sources[key])
    assert [p.off for p in back.passes] == [False, True]


def with_surface_of_both(state: ScanState) -> ScanState:
    return run(state, "fuse", voxel_mm=2.0)[0]


def findings_detail(state: ScanState) -> str:
    return " ".join(f["detail"] for f in findings(summarise_state(state)) if f["kind"] == "other passes")


def test_not_every_pass_can_be_off(settled: ScanState) -> None:
    with pytest.raises(StepNotPossible, match="every pass off"):
        run(settled, "switch_passes", off=["upright", "tipped"])
    with pytest.raises(ParameterError, match="no pass “nobody”"):
        run(settled, "switch_passes", off=["nobody"])


def test_how_far_a_pass_lies_off_the_others_is_told_with_its_side(settled: ScanState) -> None:
    calm = pass_shift(settled, 1)
    assert np.isnan(calm).any() and np.nanmedian(np.abs(calm)) < 0.06
    # Moved up as a whole, what faces up lies outside of the others, what faces down inside.
    scan = settled.passes[1]
    up = np.eye(4)
    up[2, 3] = 0.5
    moved = settled.with_pass(1, replace(scan, T_object_pass=up @ scan.T_object_pass))
    shift, normals = pass_shift(moved, 1), pass_view(moved.passes[1]).cloud.normals
    assert np.nanmedian(shift[normals[:, 2] > 0.9]) == pytest.approx(0.5, abs=0.08)
    assert np.nanmedian(np.abs(shift[np.abs(normals[:, 2]) < 0.1])) < 0.12
    head, arrays = unpack_arrays(packed_shift(moved, 1))
    assert head["digest"] == pass_view(moved.passes[1]).digest
    assert np.array_equal(arrays["shift"] == NOT_KNOWN, np.isnan(shift))
    alone = replace(moved, passes=(replace(moved.passes[0], off=True), moved.passes[1]))
    assert np.isnan(pass_shift(alone, 1)).all()
