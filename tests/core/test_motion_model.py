"""How frames may move: Jacobians against finite differences, and what a step does to the poses."""

import numpy as np
import pytest
from scenes import ring_of_views

from lucid_relic.alignment.motion_model import PassMotion, moved_about
from lucid_relic.geometry.rigid import about_axis, difference, from_rotvec, inverse, is_rigid
from lucid_relic.types import Camera, PassState, Turntable

CENTRE = np.array([5.0, -3.0, 40.0])
STOPS = 9


def table_pass() -> PassState:
    axis = Turntable(np.array([2.0, 8.0, 300.0]), np.array([0.1, -0.9, -0.42]) / 1.0, np.arange(STOPS) * 40.0)
    axis = Turntable(axis.axis_point, axis.axis_direction / np.linalg.norm(axis.axis_direction), axis.degrees)
    poses = [about_axis(axis.axis_point, axis.axis_direction, -np.radians(d)) for d in axis.degrees]
    return PassState(
        "table", None, Camera.centred(64, 48, 80.0), np.stack(poses), np.ones(STOPS, bool),
        np.zeros(STOPS, np.float32), True, turntable=axis, T_object_pass=from_rotvec(np.array([0.3, 0.1, 0]), CENTRE),
    )  # fmt: skip


def hand_pass() -> PassState:
    poses = ring_of_views(STOPS, 250.0, (30.0,), (0, 0, 20))
    return PassState(
        "hand", None, Camera.centred(64, 48, 80.0), poses, np.ones(STOPS, bool), np.zeros(STOPS, np.float32), True,
        tracking="hand",
    )  # fmt: skip


def motion_of(scan: PassState, anchored: bool = False) -> PassMotion:
    return PassMotion(scan, np.arange(STOPS), anchored, CENTRE)


@pytest.mark.parametrize("scan", [table_pass(), hand_pass()], ids=["table", "hand"])
def test_the_start_is_where_the_frames_stand(scan: PassState) -> None:
    motion = motion_of(scan)
    assert np.allclose(motion.poses(), scan.T_object_pass @ scan.frame_poses, atol=1e-9)
    assert motion.own_unknowns == (14 if scan.turntable else 6)
    assert motion_of(scan, anchored=True).own_unknowns == (8 if scan.turntable else 0)


@pytest.mark.parametrize("unknown", range(14))
def test_each_unknown_of_a_table_moves_the_frames_as_its_jacobian_says(unknown: int) -> None:
    step = 1e-4
    before = motion_of(table_pass())
    jacobian = before.jacobian()[:, unknown].reshape(STOPS, 6)
    after = motion_of(table_pass())
    own = np.zeros(14)
    own[unknown] = step
    after.apply(own, np.zeros(6 * STOPS))
    predicted = np.stack([moved_about(step * j, CENTRE) for j in jacobian]) @ before.poses()
    moved = max(np.abs(after.poses() - before.poses()).max(), 1e-12)
    assert moved > 1e-6
    assert np.abs(after.poses() - predicted).max() < 2e-3 * moved


@pytest.mark.parametrize("scan", [table_pass(), hand_pass()], ids=["table", "hand"])
def test_a_departure_moves_its_own_frame_only_about_the_centre(scan: PassState) -> None:
    motion = motion_of(scan)
    steps = np.zeros((STOPS, 6))
    steps[4] = [0.01, -0.02, 0.005, 0.3, -0.1, 0.2]
    motion.apply(np.zeros(motion.own_unknowns), steps.ravel())
    moved = motion.poses() @ inverse(scan.T_object_pass @ scan.frame_poses)
    for k in range(STOPS):
        degrees, _ = difference(np.eye(4), moved[k])
        assert is_rigid(moved[k]) and (degrees > 1) == (k == 4)
    assert np.allclose(moved[4] @ [*CENTRE, 1], [*(CENTRE + steps[4, 3:]), 1], atol=1e-9)


def test_only_the_drift_of_a_table_is_held() -> None:
    motion = motion_of(table_pass())
    own = np.zeros(14)
    own[4:8] = [1e-3, 0.1, -0.05, 0.02]
    motion.apply(own, np.zeros(6 * STOPS))
    precision, offset = motion.own_prior()
    assert np.array_equal(np.flatnonzero(precision), [4, 5, 6, 7])
    assert np.allclose(offset[4:8], own[4:8]) and not offset[:4].any()
    # The share by which the table turns too far grows with the angle; the first stop stays.
    turned = [difference(a, b)[0] for a, b in zip(motion.poses(), motion_of(table_pass()).poses(), strict=True)]
    assert turned[0] == pytest.approx(0, abs=1e-6) and np.allclose(turned, 40 * np.arange(STOPS) * 1e-3, atol=1e-3)


def test_frames_knocked_together_are_held_to_each_other_and_not_drawn_back_to_the_table() -> None:
    motion = motion_of(table_pass())
    knock = np.array([0.002, -0.001, 0.003, 5.0, -2.0, 0.5])
    motion.pose_corrections[6:] = knock
    motion.find_breaks()
    assert list(np.flatnonzero(motion.knocked())) == [6, 7, 8]
    held = motion.prior(1.0)
    assert np.abs(held @ motion.pose_corrections.ravel()).max() < 1e-6 * np.abs(held.diagonal()).max()
    motion.pose_corrections[7, 3] += 0.02
    assert (held @ motion.pose_corrections.ravel()).reshape(STOPS, 6)[7, 3] > 0, (
        "one that strays from its run is drawn to it"
    )
