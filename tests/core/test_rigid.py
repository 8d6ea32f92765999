"""Rigid motions against SciPy's own solver and against known answers."""

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from lucid_relic.geometry import rigid


def random_motion(rng: np.random.Generator) -> np.ndarray:
    return rigid.from_rotvec(rng.normal(size=3), rng.normal(size=3) * 50)


@pytest.mark.parametrize("seed", range(5))
def test_fit_agrees_with_scipy_align_vectors(seed: int) -> None:
    # Reference: scipy.spatial.transform.Rotation.align_vectors (Kabsch 1976).
    rng = np.random.default_rng(seed)
    source = rng.normal(size=(40, 3)) * 20
    truth = random_motion(rng)
    target = rigid.transform_points(truth, source) + rng.normal(size=source.shape) * 0.3
    ours = rigid.fit_rigid(source, target)
    theirs, _ = Rotation.align_vectors(target - target.mean(0), source - source.mean(0))
    assert np.abs(ours[:3, :3] - theirs.as_matrix()).max() < 1e-9


def test_fit_never_mirrors() -> None:
    # Umeyama (1991): the determinant's sign is corrected when the points are mirrored.
    rng = np.random.default_rng(3)
    source = rng.normal(size=(30, 3))
    motion = rigid.fit_rigid(source, source * [1, 1, -1])
    assert np.linalg.det(motion[:3, :3]) == pytest.approx(1.0)


def test_weights_of_zero_leave_points_out() -> None:
    rng = np.random.default_rng(4)
    source = rng.normal(size=(20, 3))
    truth = random_motion(rng)
    target = rigid.transform_points(truth, source)
    target[:5] += 100
    weights = np.r_[np.zeros(5), np.ones(15)]
    assert np.allclose(rigid.fit_rigid(source, target, weights), truth, atol=1e-9)


def test_inverse_and_difference() -> None:
    rng = np.random.default_rng(5)
    a = random_motion(rng)
    assert np.allclose(rigid.inverse(a) @ a, np.eye(4), atol=1e-12)
    b = a @ rigid.from_rotvec(np.array([0, 0, np.radians(2)]), np.array([0.0, 3, 4]))
    assert rigid.difference(a, b) == pytest.approx((2.0, 5.0))


def test_about_axis_turns_counter_clockwise_seen_from_the_tip() -> None:
    turn = rigid.about_axis(np.array([1.0, 0, 0]), np.array([0, 0, 2.0]), np.pi / 2)
    assert np.allclose(turn @ [2, 0, 7, 1], [1, 1, 7, 1])


@pytest.mark.parametrize("bad", [np.full((4, 4), np.nan), np.eye(3), np.diag([1, 1, -1, 1.0]), np.diag([2, 2, 2, 1.0])])
def test_is_rigid_refuses(bad: np.ndarray) -> None:
    assert not rigid.is_rigid(bad)


def test_many_motions_are_treated_as_one_is() -> None:
    rng = np.random.default_rng(8)
    many, one = np.stack([random_motion(rng) for _ in range(20)]), random_motion(rng)
    each = [rigid.difference(motion, one)[0] for motion in many]
    assert rigid.turned_deg(many, one) == pytest.approx(each, abs=1e-5)
    shaken = many + rng.normal(size=many.shape) * 1e-3
    shaken[:, 3] = [0, 0, 0, 1]
    straight = rigid.orthonormalised(shaken)
    assert np.array_equal(straight, np.stack([rigid.orthonormalised(motion) for motion in shaken]))
    assert all(rigid.is_rigid(motion) for motion in straight)
