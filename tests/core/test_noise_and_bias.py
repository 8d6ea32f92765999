"""Depths without the bias of plane fits, a stand cut that knows the noise, and a list of steps that stops to ask."""

from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from scenes import knot_field, knot_model, rendered_state, ring_of_views, write_capture

from lucid_relic.capture.traits import ScannerTraits
from lucid_relic.capture.virtual import TurntablePlan
from lucid_relic.demo.shapes import box, sphere
from lucid_relic.errors import NotAccepted
from lucid_relic.geometry.bvh import TriangleTree
from lucid_relic.geometry.depth_map import frame_map
from lucid_relic.geometry.pass_points import pass_points
from lucid_relic.geometry.rigid import inverse, transform_points
from lucid_relic.geometry.spacing import depth_noise
from lucid_relic.io.capture_folder import CaptureFolder
from lucid_relic.operations import get_operation
from lucid_relic.operations.align import find_fit as operation_module
from lucid_relic.operations.run import RecipeStep, run_steps
from lucid_relic.progress import silent
from lucid_relic.types import Camera, ScanState


def test_smoothed_depths_of_a_ball_lie_on_it() -> None:
    camera = Camera.centred(160, 120, 220.0)
    poses = ring_of_views(1, 150.0, (20.0,), (0, 0, 0))
    scan = rendered_state(lambda p: sphere(p, (0, 0, 0), 25), poses, camera, noise_mm=0.02).passes[0]
    surface = frame_map(scan, 0)
    mask = surface.confidence > 0.1

    def radius_off(depth: np.ndarray) -> np.ndarray:
        return np.linalg.norm(transform_points(poses[0], surface.points(mask, depth)), axis=1) - 25

    plane, unshrunk, raw = (radius_off(d) for d in (surface.fitted, surface.unshrunk(), surface.depth))
    assert plane.mean() < -0.02, "a plane through a window of a ball lies inside it"
    assert abs(unshrunk.mean()) < 0.1 * abs(plane.mean())
    assert unshrunk.std() < 0.8 * raw.std()


def test_a_plate_seen_flatly_tells_its_noise_and_not_its_relief() -> None:
    """Only its bumps and its rim face the head; what bends there must not be taken for noise, or nothing tells its sides apart."""

    def plate(p: np.ndarray) -> np.ndarray:
        bumps = [
            0.9 * np.exp(-(((p[:, 0] - x) ** 2 + (p[:, 1] - y) ** 2) / 16)) for x, y in [(-25, -8), (-5, 9), (14, -6)]
        ]
        return box(p, (0, 0, 0), (40, 20, 1.5), 0.5) - sum(bumps)

    poses = ring_of_views(3, 220.0, (24.0,), (0, 0, 0))
    state = rendered_state(plate, poses, Camera.centred(240, 180, 324.0), noise_mm=0.05)
    noises = [frame_map(state.passes[0], n).noise_mm for n in range(3)]
    assert min(noises) > 0.8 * 0.05 and max(noises) < 2.0 * 0.05


@pytest.mark.parametrize("noise", [0.05, 0.3])
def test_the_stand_cut_leaves_no_plate_whatever_the_noise(noise: float, tmp_path: Path) -> None:
    traits = ScannerTraits(width=240, height=180, focal_px=324.0, standoff_mm=260.0, noise_mm=noise)
    scanner = write_capture(tmp_path / "c", knot_model(), TurntablePlan(stops=8), 1, traits)
    state = ScanState((CaptureFolder(tmp_path / "c").as_pass(),))
    for name in ("place_frames", "stand_cut"):
        step = get_operation(name)
        state, _ = step.run(state, step.parameters(), silent)
    scan = state.passes[0]
    assert 0.8 * noise < depth_noise(scan) < 2.0 * noise
    T_model_pass = scanner.truth_poses()[0] @ inverse(scan.frame_poses[0])
    points = transform_points(T_model_pass, pass_points(scan, 0.8).points.astype(float))
    away = TriangleTree(knot_model().mesh).closest(points)[0]
    assert len(points) > 2000 and (away > 1.5 + 3 * noise).mean() < 0.001


def _two_passes() -> ScanState:
    scan = rendered_state(
        knot_field, ring_of_views(2, 150.0, (30.0,), (0, 0, 20)), Camera.centred(64, 48, 90.0)
    ).passes[0]
    return ScanState((replace(scan, title="upright"), replace(scan, title="tipped", placed=False)))


def _run(state: ScanState, monkeypatch: pytest.MonkeyPatch, steps: list[RecipeStep], finished: int = 0) -> list[str]:
    """The operations that were told as finished, with a second pass that fits nowhere."""
    monkeypatch.setattr(operation_module, "place_passes", lambda passes, clouds, progress: (passes, []))
    told: list[str] = []

    def on_step(step: RecipeStep, after: ScanState, report: Any, seconds: float) -> None:
        told.append(step.operation)

    try:
        run_steps(state, steps, silent, on_step, finished=finished)
    except NotAccepted as why:
        told.append(str(why))
    return told


def test_a_recipe_stops_where_a_pass_could_not_be_placed(monkeypatch: pytest.MonkeyPatch) -> None:
    steps = [RecipeStep("find_fit", {}), RecipeStep("settle", {})]
    told = _run(_two_passes(), monkeypatch, steps)
    assert told[0] == "find_fit" and len(told) == 2 and "“tipped” could not be placed" in told[1]
    # Taken up again after an interruption it does not go on either; alone, find fit has nothing to stop.
    assert "could not be placed" in _run(_two_passes(), monkeypatch, steps, finished=1)[0]
    assert _run(_two_passes(), monkeypatch, steps[:1]) == ["find_fit"]


def test_a_recipe_goes_on_without_the_pass_when_it_is_told_to(monkeypatch: pytest.MonkeyPatch) -> None:
    steps = [RecipeStep("find_fit", {"allow_unplaced": True}), RecipeStep("settle", {})]
    assert _run(_two_passes(), monkeypatch, steps) == ["find_fit", "settle"]
