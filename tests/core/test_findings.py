"""Figures of a state and the findings drawn from them, on meshes whose faults are known."""

from dataclasses import replace

import numpy as np
import pytest
from scenes import grid_plane, in_order, joined, one_pass, uv_sphere

from lucid_relic.inspection.findings import findings
from lucid_relic.inspection.summary import summarise_state
from lucid_relic.types import PointCloud, ScanState, TriangleMesh, Volume


def kinds(state: ScanState) -> list[str]:
    return [f["kind"] for f in findings(summarise_state(state))]


def test_a_finished_object_has_no_findings() -> None:
    assert kinds(in_order(uv_sphere(10.0))) == []


def test_figures_of_a_pass() -> None:
    figures = summarise_state(ScanState((one_pass(),)))["passes"][0]
    assert figures["kept_share"] == [0.25] * 4 and figures["fit_mm"] == [0.03, 0.04, None, 0.05]
    assert figures["rms_mm"] == pytest.approx(np.sqrt((0.03**2 + 0.04**2 + 0.05**2) / 3), abs=5e-5)
    assert figures["posed"] and figures["cut"] and figures["placed"] and figures["frames"] == 4
    raw = summarise_state(ScanState((one_pass(keep=None, fit_mm=np.full(4, np.nan, np.float32)),)))["passes"][0]
    assert raw["kept_share"] is None and raw["rms_mm"] is None and not raw["posed"] and not raw["cut"]


def test_figures_of_a_mesh_follow_closed_formulas() -> None:
    state = in_order(uv_sphere(10.0, 128, 256))
    figures = summarise_state(state)["mesh"]
    assert figures["watertight"] and figures["holes"] == {"count": 0} and figures["pieces"] == 1
    assert figures["volume_mm3"] == pytest.approx(4 / 3 * np.pi * 1000, rel=1e-3)
    assert figures["area_mm2"] == pytest.approx(4 * np.pi * 100, rel=1e-3)
    assert figures["size_mm"] == pytest.approx([20, 20, 20], abs=0.01)
    assert figures["texture_size"] == 4 and figures["texture_seen"] == 1.0


def test_what_a_state_holds_besides_is_told() -> None:
    empty = summarise_state(ScanState(()))
    assert empty["mesh"] is None and empty["points"] == 0 and empty["voxel_mm"] is None and not empty["upright"]
    blocks = (np.zeros((1, 3), np.int32), *(np.zeros((1, 512), np.float32) for _ in range(2)))
    volume = Volume(np.zeros(3), 0.5, 2.0, *blocks, np.zeros((1, 512, 3), np.uint8))
    cloud = PointCloud(np.zeros((7, 3), np.float32))
    full = summarise_state(ScanState((), volume=volume, points=cloud))
    assert full["points"] == 7 and full["voxel_mm"] == 0.5


@pytest.mark.parametrize(
    ("changed", "kind", "operation"),
    [
        ({"fit_mm": np.full(4, np.nan, np.float32)}, "unplaced frames", "place_frames"),
        ({"posed": False}, "unplaced frames", "place_frames"),
        ({"keep": None}, "stand", "stand_cut"),
        ({"frame_in": np.array([True, True, False, False])}, "slip", None),
    ],
)
def test_what_is_wrong_with_a_pass_is_found_with_what_mends_it(changed, kind, operation) -> None:
    found = findings(summarise_state(ScanState((one_pass(**changed),))))
    assert [(f["kind"], f["operation"]) for f in found] == [(kind, operation)]
    assert "upright" in found[0]["title"]


def test_frames_left_out_are_counted() -> None:
    state = ScanState((one_pass(frame_in=np.array([True, False, False, False])),))
    assert findings(summarise_state(state))[0]["figure"] == "3"


def test_frames_of_a_knocked_object_are_named() -> None:
    found = findings(summarise_state(ScanState((one_pass(knocked=(1, 3)),))))
    assert [(f["kind"], f["figure"]) for f in found] == [("knocked", "2")] and "Frames 2, 4 " in found[0]["detail"]


def test_a_pass_that_is_not_placed_is_told_only_beside_another() -> None:
    loose = one_pass(placed=False, title="tipped")
    assert kinds(ScanState((loose,))) == []
    found = findings(summarise_state(ScanState((one_pass(), loose))))
    assert [(f["kind"], f["operation"]) for f in found] == [("shifted pass", "find_fit")] and "tipped" in found[0][
        "title"
    ]


def test_a_hole_is_measured_around_its_rim_and_found_where_it_is() -> None:
    ball = uv_sphere(10.0)
    middle = ball.corners.mean(axis=1)
    open_ball = in_order(ball.select_faces(middle[:, 2] < 8.0))
    figures = summarise_state(open_ball)["mesh"]
    assert not figures["watertight"] and figures["holes"]["count"] == 1 and figures["volume_mm3"] is None
    rim_z = figures["holes"]["place"][2]
    assert figures["holes"]["longest_mm"] == pytest.approx(2 * np.pi * np.sqrt(100 - rim_z**2), rel=0.01)
    assert figures["holes"]["place"] == pytest.approx([0, 0, 8.0], abs=0.6)
    found = findings(summarise_state(open_ball))
    assert [(f["kind"], f["operation"], f["figure"]) for f in found] == [("hole", "patch_holes", "1")]
    assert found[0]["place"] == figures["holes"]["place"]
    blocks = np.zeros((1, 3), np.int32), np.ones((1, 512), np.float32), np.ones((1, 512), np.float32)
    volume = Volume(np.zeros(3), 0.5, 2.0, *blocks, np.zeros((1, 512, 3), np.uint8))
    assert [f["operation"] for f in findings(summarise_state(replace(open_ball, volume=volume)))] == ["close"]


def test_the_longest_of_several_rims_is_told() -> None:
    small, large = grid_plane(10, 10, 1), grid_plane(30, 20, 1)
    moved = large.transformed(np.array([[1, 0, 0, 50], [0, 1, 0, 0], [0, 0, 1, 7], [0, 0, 0, 1.0]]))
    holes = summarise_state(ScanState((), mesh=joined(small, moved)))["mesh"]["holes"]
    assert holes["count"] == 2 and holes["longest_mm"] == pytest.approx(100) and holes["place"] == [65.0, 10.0, 7.0]


def test_loose_pieces_are_counted_without_the_object_itself() -> None:
    away = np.eye(4)
    away[0, 3] = 40.0
    found = findings(summarise_state(in_order(joined(uv_sphere(10.0), uv_sphere(1.0).transformed(away)))))
    assert [(f["kind"], f["figure"], f["operation"]) for f in found] == [("loose pieces", "1", "largest_piece")]


def test_edges_with_three_triangles_are_told_apart_from_holes() -> None:
    ball = uv_sphere(10.0)
    fin = np.concatenate([ball.faces, ball.faces[:1], ball.faces[:1]])
    found = findings(summarise_state(in_order(TriangleMesh(ball.vertices, fin))))
    assert [f["kind"] for f in found] == ["not manifold"]


@pytest.mark.parametrize(("height", "told"), [(9.0, True), (9.95, False)])
def test_made_up_area_is_told_once_it_is_notable_and_found_where_it_is(height: float, told: bool) -> None:
    ball = uv_sphere(10.0)
    cap = ball.corners.mean(axis=1)[:, 2] > height
    state = in_order(replace(ball, made_up=cap))
    # A cap of a ball has the area 2·π·r·h.
    assert summarise_state(state)["mesh"]["made_up_area_fraction"] == pytest.approx((10 - height) / 20, abs=0.01)
    found = findings(summarise_state(state))
    assert [f["kind"] for f in found] == (["made up"] if told else [])
    if told:
        assert found[0]["place"] == pytest.approx([0, 0, 9.6], abs=0.5)


def test_what_is_left_to_do_comes_in_the_order_of_the_work() -> None:
    state = ScanState((one_pass(),), mesh=uv_sphere(10.0))
    assert kinds(state) == ["no colour", "crooked"]
    assert [f["operation"] for f in findings(summarise_state(state))] == ["lay_colour", "stand_up"]
