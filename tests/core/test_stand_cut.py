"""Stand cut by hand: planes given, drawn or found; the preview tells what the step does; steps replay to the bit."""

import json

import numpy as np
import pytest
from scenes import rendered_state, ring_of_views

from lucid_relic.demo.shapes import sphere
from lucid_relic.errors import ParameterError, StepNotPossible
from lucid_relic.io.capture_folder import CaptureFolder
from lucid_relic.operations import get_operation
from lucid_relic.progress import silent
from lucid_relic.types import Camera, ScanState, View, ViewLine
from lucid_relic.view.pass_view import PassView, know_view, pass_view

CUT = get_operation("stand_cut")


@pytest.fixture(scope="module")
def placed(processed) -> ScanState:
    """The lump's two passes with frames placed, nothing cut."""
    return processed[1][0][1]


@pytest.fixture(scope="module")
def found(placed: ScanState) -> tuple[ScanState, dict]:
    return CUT.run(placed, CUT.parameters(), silent)


def cut(state: ScanState, **parameters) -> tuple[ScanState, dict]:
    return CUT.run(state, CUT.parameters(**parameters), silent)


def same_masks(a: ScanState, b: ScanState) -> bool:
    return all(np.array_equal(p.keep, q.keep) for p, q in zip(a.passes, b.passes, strict=True))


def test_the_found_plane_given_back_cuts_the_same(placed: ScanState, found: tuple[ScanState, dict]) -> None:
    state, report = found
    planes = {p["pass"]: p["plane"] for p in report["passes"]}
    heights = {p["above_mm"] for p in report["passes"]}
    assert len(planes) == 2 and all(p["plate_found"] and p["by"] == "found" for p in report["passes"])
    lifted = {t: [*n[:3], n[3] + p["above_mm"]] for (t, n), p in zip(planes.items(), report["passes"], strict=True)}
    again, by_hand = (
        cut(placed, planes=planes, above_mm=max(heights)) if len(heights) == 1 else cut(placed, planes=lifted)
    )
    assert all(p["by"] == "hand" and not p["plate_found"] for p in by_hand["passes"])
    before = sum(p["points_after"] for p in report["passes"])
    assert abs(sum(p["points_after"] for p in by_hand["passes"]) - before) < 0.005 * before


def test_a_step_replays_from_its_json_and_from_its_text_to_the_same_mask(placed: ScanState) -> None:
    planes = {"upright": [0.05, -0.02, 1.0, 6.0]}
    params = CUT.parameters(planes=planes, passes=["upright"])
    first, report = CUT.run(placed, params, silent)
    assert report["passes"][0]["points_after"] < report["passes"][0]["points_before"]
    from_json = CUT.parameters.from_dict(json.loads(json.dumps(params.as_dict())))
    from_text = CUT.parameters.from_dict(params.as_text())
    assert from_json == from_text == params
    assert same_masks(CUT.run(placed, from_json, silent)[0], first)
    assert first.passes[1].keep is placed.passes[1].keep, "a pass that was not named stays"


def test_what_lies_behind_the_plane_goes_and_nothing_else(placed: ScanState) -> None:
    plane = np.array([0.6, 0.0, 0.8, 20.0])
    state, _ = cut(placed, planes={"upright": plane.tolist()}, passes=["upright"])
    kept = pass_view(state.passes[0]).cloud.points @ plane[:3] - plane[3]
    all_of_it = pass_view(placed.passes[0]).cloud.points @ plane[:3] - plane[3]
    assert kept.min() > -0.6 and (all_of_it < -5).any() and kept.max() == pytest.approx(all_of_it.max(), abs=0.3)
    # A cut across the object is not what it stands on.
    assert state.passes[0].plate is None
    flipped, _ = cut(placed, planes={"upright": (-plane).tolist()}, passes=["upright"])
    assert not (np.unpackbits(state.passes[0].keep) & np.unpackbits(flipped.passes[0].keep)).any()


def test_cuts_add_up(placed: ScanState) -> None:
    one, _ = cut(placed, planes={"upright": [0, 0, 1, 10.0]}, passes=["upright"])
    both, report = cut(one, planes={"upright": [1, 0, 0, 0.0]}, passes=["upright"])
    masks = [np.unpackbits(s.passes[0].keep) for s in (one, both)]
    assert (masks[1] <= masks[0]).all() and report["passes"][0]["points_before"] == int(masks[0].sum())


def test_a_line_across_the_view_cuts_where_it_was_drawn(placed: ScanState) -> None:
    pose = np.array([[1, 0, 0, 0], [0, 0, -1, 25], [0, 1, 0, 300], [0, 0, 0, 1.0]])
    view = View(tuple(map(tuple, pose.tolist())), 30.0, 725, 590)
    ends, _ = view.project(np.array([[-40, 0, 15], [40, 0, 15.0]]))
    line = ViewLine(tuple(ends[0]), tuple(ends[1]), view)
    state, report = cut(placed, line=line, passes=["upright"])
    assert report["passes"][0]["by"] == "line"
    shown = pass_view(state.passes[0]).cloud.points
    pixels, _ = view.project(shown)
    assert (pixels[:, 1] < ends[0][1] + 1.5).all() and len(shown) > 500
    text = CUT.parameters(line=line, passes=["upright"]).as_text()
    assert same_masks(CUT.run(placed, CUT.parameters.from_dict(text), silent)[0], state)


@pytest.mark.parametrize("height", [0.0, 4.0, 18.0])
def test_the_preview_counts_what_the_step_does(placed: ScanState, height: float) -> None:
    params = CUT.parameters(above_mm=height)
    preview = CUT.preview(placed, params)
    _, report = CUT.run(placed, params, silent)
    for shown, done in zip(preview.figures["passes"], report["passes"], strict=True):
        assert shown["pass"] == done["pass"] and shown["by"] == "found"
        assert np.allclose(shown["plane"], done["plane"]) and shown["above_mm"] == done["above_mm"]
        # Shown points are means of cells and the step asks every pixel twice, raw and smoothed.
        assert shown["points_before"] == pytest.approx(done["points_before"], rel=0.03)
        assert abs(shown["points_after"] - done["points_after"]) < 0.02 * done["points_before"]
    kinds = [(layer.kind, layer.facts["pass"]) for layer in preview.layers]
    assert kinds == [("plane", "upright"), ("marked", "upright"), ("plane", "tipped"), ("marked", "tipped")]
    marked = preview.layers[1]
    scan = placed.passes[0]
    flags = np.unpackbits(marked.arrays["flags"], count=len(pass_view(scan)), bitorder="little").astype(bool)
    plane = np.array(preview.figures["passes"][0]["plane"])
    over = pass_view(scan).cloud.points @ plane[:3] - plane[3]
    assert marked.facts["digest"] == pass_view(scan).digest
    assert over[flags].max() <= preview.figures["passes"][0]["above_mm"] < over[~flags].min()
    corners = preview.layers[0].arrays["corners"]
    assert np.allclose(corners @ plane[:3] - plane[3], preview.figures["passes"][0]["above_mm"], atol=1e-3)


def test_a_view_read_from_its_file_takes_the_place_of_the_one_worked_out(placed: ScanState) -> None:
    scan = CaptureFolder(placed.passes[0].source.root).as_pass()
    view = pass_view(scan)
    again = PassView.unpacked(view.packed())
    assert again.digest == view.digest and np.array_equal(again.pixel, view.pixel)
    assert np.abs(again.cloud.points - view.cloud.points).max() < 0.005
    other = CaptureFolder(placed.passes[0].source.root).as_pass()
    know_view(other, again)
    assert pass_view(other) is again


def test_points_know_the_pixel_they_come_from(placed: ScanState) -> None:
    scan = placed.passes[0]
    view = pass_view(scan)
    for n in range(0, len(view), len(view) // 60):
        depth = scan.source.depth(int(view.frame[n]))
        v, u = divmod(int(view.pixel[n]), scan.camera.width)
        ray = np.append(scan.camera.rays[v, u], 1.0) * depth[v, u]
        place = scan.T_object_camera(int(view.frame[n])) @ np.append(ray, 1.0)
        # Within a cell's diagonal and the noise.
        assert np.linalg.norm(place[:3] - view.cloud.points[n]) < 2.5
    assert view.stands_for.sum() > len(view)


def test_wrong_names_and_empty_results_are_refused_in_words(placed: ScanState) -> None:
    with pytest.raises(ParameterError, match="no pass “sideways”; there are: upright, tipped"):
        cut(placed, passes=["sideways"])
    with pytest.raises(ParameterError, match="no pass “sideways”"):
        cut(placed, planes={"sideways": [0, 0, 1, 0]})
    with pytest.raises(ParameterError, match="leaves nothing of “upright”"):
        cut(placed, planes={"upright": [0, 0, 1, 500]}, passes=["upright"])


def test_a_pass_without_a_plate_is_told_in_preview_and_report() -> None:
    views = ring_of_views(8, 150.0, (30.0, -15.0), (0, 0, 24))
    state = rendered_state(lambda p: sphere(p, (0, 0, 24), 20), views, Camera.centred(160, 120, 260.0))
    preview = CUT.preview(state, CUT.parameters())
    after, report = CUT.run(state, CUT.parameters(), silent)
    for told in (preview.figures["passes"][0], report["passes"][0]):
        assert told["by"] == "none" and "No plate was found" in told["why"]
    assert after.passes[0] is state.passes[0] and not preview.layers
    assert CUT.headline_of(report) == "no plate found"
    with pytest.raises(StepNotPossible, match="No plate was found"):
        cut(state, need_plate=True)
