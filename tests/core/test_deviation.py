"""Deviation from a take, a pass and a mesh that came in: closed truth, sides, what has no counterpart, extremes."""

from dataclasses import replace

import numpy as np
import pytest
from scenes import cloud_pass, uv_sphere

from lucid_relic.errors import StepNotPossible
from lucid_relic.inspection.deviation import deviation
from lucid_relic.inspection.summary import summarise_state
from lucid_relic.operations import get_operation
from lucid_relic.progress import silent
from lucid_relic.types import HeldShape, PointCloud, ScanState, Take


def run(state: ScanState, **given):
    operation = get_operation("deviation")
    return operation.run(state, operation.parameters.from_dict(given), silent)


def test_a_larger_ball_lies_outside_by_what_it_is_larger() -> None:
    inner, outer = uv_sphere(20, 128, 256), uv_sphere(20.4, 64, 128)
    found = deviation(outer.vertices, inner, 0.3)
    assert found.off == pytest.approx(0.4, abs=0.01)
    assert found.facts["mean_mm"] == pytest.approx(0.4, abs=0.01) and found.facts["within_share"] == 0.0
    back = deviation(inner.vertices, outer, 0.5)
    assert back.facts["mean_mm"] == pytest.approx(-0.4, abs=0.03) and back.facts["within_share"] == 1.0
    assert sum(back.facts["bins"]) == pytest.approx(1) and back.facts["known_share"] == 1.0


def test_points_tell_the_same_where_they_are_dense_enough() -> None:
    ball, larger = uv_sphere(20, 256, 512), uv_sphere(20.4, 48, 96)
    cloud = PointCloud(ball.vertices, ball.vertex_normals())
    found = deviation(larger.vertices, cloud)
    assert np.nanmedian(found.off) == pytest.approx(0.4, abs=0.01)


def test_where_the_reference_ends_nothing_is_known() -> None:
    ball = uv_sphere(20, 64, 128)
    half = ball.select_faces(ball.face_centres()[:, 2] > 0)
    found = deviation(ball.vertices, half)
    unknown = np.isnan(found.off)
    assert unknown[ball.vertices[:, 2] < -1.5].all() and not unknown[ball.vertices[:, 2] > 1].any()
    assert found.facts["known_share"] == pytest.approx(0.5, abs=0.06) and found.facts["max_mm"] < 0.05
    with pytest.raises(StepNotPossible, match="near the reference"):
        deviation(ball.vertices + np.float32([500, 0, 0]), half)


def test_extremes_are_places_apart_the_farthest_first() -> None:
    ball = uv_sphere(20, 64, 128)
    bumped = ball.vertices.copy()
    for place, off in (((20, 0, 0), 0.9), ((0, -20, 0), -0.6)):
        near = np.linalg.norm(ball.vertices - place, axis=1) < 2
        bumped[near] *= 1 + off / 20
    told = deviation(bumped, ball).facts["extremes"]
    assert [round(e["off_mm"], 1) for e in told[:2]] == [0.9, -0.6]
    assert np.linalg.norm(np.array(told[0]["at"]) - [20, 0, 0]) < 4
    assert np.linalg.norm(np.array(told[1]["at"]) - [0, -20, 0]) < 4


def test_a_surface_is_held_against_a_take_a_pass_or_a_reference_mesh(tmp_path) -> None:
    ball = uv_sphere(20, 64, 128)
    take = Take("Take A", {"triangles": 1}, HeldShape(uv_sphere(20.1, 64, 128), None))
    model = replace(cloud_pass(uv_sphere(19.8, 96, 192), tmp_path / "model"), title="model", placed=True)
    loose = replace(cloud_pass(ball, tmp_path / "loose"), title="loose", placed=False)
    state = ScanState((model, loose), mesh=ball, takes=(take,))
    after, report = run(state, against="Take A", tolerance_mm=0.2)
    assert report["mean_mm"] == pytest.approx(-0.1, abs=0.02) and report["within_share"] == 1.0
    assert "of Take A" in get_operation("deviation").headline_of(report)
    assert summarise_state(after)["deviation"]["against"] == "Take A"
    # Of another surface nothing was told yet.
    assert summarise_state(replace(after, mesh=uv_sphere(21)))["deviation"] is None
    _, report = run(state, against="model")
    assert report["mean_mm"] == pytest.approx(0.2, abs=0.02) and report["within_share"] is None
    for against, words in (("", "Choose"), ("loose", "not placed"), ("moon", "no take or pass")):
        with pytest.raises(StepNotPossible, match=words):
            run(state, against=against)
