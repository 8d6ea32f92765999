"""The first motions: friends of matches counted against a matrix product, and a seed's motion against SciPy's."""

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from lucid_relic.alignment import _coarse_kernels
from lucid_relic.geometry.rigid import difference, from_rotvec

TURN = from_rotvec(np.array([0.4, -1.1, 0.7]), np.array([12.0, -30.0, 8.0]))


@pytest.mark.parametrize("matches", [12, 64, 65, 200])
def test_common_friends_are_those_of_the_matrix_product(matches: int) -> None:
    rng = np.random.default_rng(matches)
    agree = np.triu(rng.random((matches, matches)) < 0.6, 1)
    agree = (agree | agree.T).astype(np.uint8)
    words = np.zeros((matches, -(-matches // 64) * 8), np.uint8)
    bits = np.packbits(agree, axis=1)
    words[:, : bits.shape[1]] = bits
    second, total = np.zeros((matches, matches), np.uint16), np.zeros(matches, np.int64)
    _coarse_kernels.common_friends(agree, words.view(np.uint64), second, total)
    wanted = agree.astype(int) @ agree.astype(int) * agree
    assert (second == wanted).all() and (total == wanted.sum(axis=1)).all()
    assert wanted.any()


def sides(right: int, wrong: int) -> tuple[np.ndarray, np.ndarray]:
    """Places and normals (6, k) of matches on both sides, the right ones first, off by a hundredth of a mm."""
    rng = np.random.default_rng(right)
    b = rng.uniform(-40, 40, (right + wrong, 3)) + 500.0
    nb = rng.normal(size=b.shape)
    nb /= np.linalg.norm(nb, axis=1, keepdims=True)
    a = b @ TURN[:3, :3].T + TURN[:3, 3] + rng.normal(size=b.shape) * 0.01
    a[right:] += 30.0
    one, two = (np.concatenate(s, axis=1).T.astype(np.float32, order="C") for s in ((a, nb @ TURN[:3, :3].T), (b, nb)))
    return one, two


def test_a_seed_leads_to_the_motion_of_all_matches_that_fulfil_it() -> None:
    one, two = sides(150, 90)
    second = np.zeros((240, 240), np.uint16)
    second[0, 3:30] = 7  # the friends of the seed, all right ones; the first 24 of equal ones are taken
    second[0, 40:43] = 9
    second[1, 5:7] = 4  # too few for a motion
    motions, support = np.zeros((2, 3, 4)), np.zeros(2, np.int64)
    _coarse_kernels.seed_motions(
        np.array([0, 1]), second, 24, 2, one, two, np.float32(4.0), np.float32(0.9), motions, support
    )
    assert support.tolist() == [150, 0] and not motions[1].any()
    # SciPy's least-squares turn of the same matches, of which those that fulfil it are the right ones.
    a, b = (side[:3, :150].T.astype(float) for side in (one, two))
    turn, _ = Rotation.align_vectors(a - a.mean(axis=0), b - b.mean(axis=0))
    wanted = np.eye(4)
    wanted[:3, :3] = turn.as_matrix()
    wanted[:3, 3] = a.mean(axis=0) - wanted[:3, :3] @ b.mean(axis=0)
    found = np.eye(4)
    found[:3] = motions[0]
    assert difference(found, wanted)[0] < 1e-3
    assert np.abs(found[:3] @ np.append(b.mean(axis=0), 1) - a.mean(axis=0)).max() < 1e-3


def test_the_best_friends_are_the_largest_and_of_equal_ones_the_first() -> None:
    row = np.array([0, 5, 9, 5, 9, 1, 5], np.uint16)
    members, values = np.empty(4, np.int64), np.empty(4, np.int64)
    assert _coarse_kernels._best_of(row, 4, members, values) == 4
    assert members.tolist() == [2, 4, 1, 3]
    assert _coarse_kernels._best_of(row[:2], 4, members, values) == 1
