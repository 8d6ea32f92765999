"""The reference piece: errors that were put in come out again, within the uncertainty that is told."""

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from scenes import write_capture

from lucid_relic.calibration.reference_piece import (
    ReferencePiece,
    check_piece,
    fit_ball,
    flatness,
    robust_range,
    size_of_ball,
)
from lucid_relic.capture.reference_model import reference_model
from lucid_relic.capture.traits import ScannerTraits
from lucid_relic.capture.virtual import TurntablePlan
from lucid_relic.desk.checks import measured_piece
from lucid_relic.errors import InputError, StepNotPossible
from lucid_relic.io.capture_folder import CaptureFolder
from lucid_relic.operations import get_operation
from lucid_relic.progress import silent
from lucid_relic.types import ScanState

PIECE = ReferencePiece("bar 1")
HEAD = ScannerTraits(
    width=480, height=360, focal_px=640.0, standoff_mm=260.0, noise_mm=0.02, axis_error_mm=0.1, axis_error_deg=0.1
)


def ball_points(rng: np.random.Generator, radius: float, noise: float, count: int = 4000) -> np.ndarray:
    n = rng.normal(size=(3 * count, 3))
    n /= np.linalg.norm(n, axis=1, keepdims=True)
    n = n[n[:, 2] > 0.2][:count]
    return n * (radius + rng.normal(0, noise, (len(n), 1)))


def test_a_ball_is_fitted_within_its_uncertainty_and_its_form_is_the_noises_range() -> None:
    rng = np.random.default_rng(1)
    off = []
    for _ in range(30):
        points = ball_points(rng, 15.0, 0.02) + [4, -7, 300]
        ball = fit_ball(points, 14.0)
        off.append(np.append(ball.centre - [4, -7, 300], ball.diameter_mm / 2 - 15))
        # Without the 3 of 1000 left out, the range of n normal deviations is about 2·z(1 − 0.0015).
        assert ball.form_mm == pytest.approx(2 * 2.97 * 0.02, rel=0.12)
    scatter = np.sqrt((np.array(off) ** 2).sum(axis=1).mean())
    assert ball.sd_mm == pytest.approx(scatter, rel=0.35)


def test_torn_pixels_do_not_move_a_ball_and_few_points_are_refused() -> None:
    rng = np.random.default_rng(2)
    points = ball_points(rng, 15.0, 0.02)
    torn = np.concatenate([points, rng.uniform(-15, 15, (120, 3))])
    assert np.linalg.norm(fit_ball(torn, 15.0).centre) < 0.01
    with pytest.raises(StepNotPossible, match="300 are needed"):
        fit_ball(points[:50], 15.0)


def test_ranges_and_flatness_by_hand() -> None:
    off = np.append(np.linspace(-1, 1, 1000), [9.0, -7.0])
    assert robust_range(off) == pytest.approx(2.0, abs=0.01)
    rng = np.random.default_rng(3)
    plane = np.column_stack([rng.uniform(-30, 30, (5000, 2)), rng.normal(0, 0.01, 5000)])
    bent = plane + np.column_stack([np.zeros((5000, 2)), 0.1 * (plane[:, 0] / 30) ** 2])
    assert flatness(plane) == pytest.approx(0.06, rel=0.15) and flatness(bent) > 0.11


@pytest.mark.parametrize("scale", [0.0, 5e-4, -8e-4])
def test_a_scale_that_was_put_in_comes_out_within_its_uncertainty(scale: float) -> None:
    rng = np.random.default_rng(7)
    balls = [(1 + scale) * (ball_points(rng, 15.0, 0.015) + [x, 0, 300]) for x in (-50, 50)]
    flat = np.column_stack([rng.uniform(-30, 30, (3000, 2)), rng.normal(0, 0.005, 3000)])
    one, two = (size_of_ball([b], 15.0) for b in balls)
    told = check_piece((balls[0], balls[1]), (one, two), flat, PIECE, 0.015)
    assert told.spacing_error_mm == pytest.approx(100 * scale, abs=told.spacing_uncertainty_mm)
    assert told.spacing_uncertainty_mm < 0.01
    assert told.ok == (scale == 0.0)
    assert ("measures true" in told.words) == (scale == 0.0)
    if scale:
        assert ("too long" if scale > 0 else "too short") in told.words


@pytest.mark.parametrize("scale", [0.0, 5e-4])
def test_a_scanned_piece_tells_scale_and_noise(scale: float, tmp_path: Path) -> None:
    model = reference_model(PIECE.diameters_mm, PIECE.spacing_mm)
    head = replace(HEAD, scale_error=scale)
    write_capture(tmp_path / "piece", model, TurntablePlan(stops=8, title="piece"), seed=3, traits=head)
    state = ScanState((CaptureFolder(tmp_path / "piece").as_pass(),))
    place = get_operation("place_frames")
    state, _ = place.run(state, place.parameters(), silent)
    told = measured_piece(state.passes[0], PIECE)
    assert told.scale == pytest.approx(scale, abs=told.spacing_uncertainty_mm / 100)
    assert max(told.form_mm) < 12 * HEAD.noise_mm and told.flatness_mm < 12 * HEAD.noise_mm
    assert told.size_mm == pytest.approx([30 * scale] * 2, abs=told.size_uncertainty_mm)
    assert told.ok == (scale == 0.0)


def test_another_piece_is_not_taken_for_the_reference(tmp_path: Path) -> None:
    from scenes import knot_model

    write_capture(tmp_path / "lump", knot_model(2.0), TurntablePlan(stops=4), seed=3)
    with pytest.raises(StepNotPossible, match="ball of 30 mm"):
        measured_piece(CaptureFolder(tmp_path / "lump").as_pass(), PIECE)
    with pytest.raises(InputError, match="stand apart"):
        ReferencePiece("wrong", spacing_mm=20.0)
