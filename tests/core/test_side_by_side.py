"""Work side by side: all of it, in order, whatever its number, and what it raises."""

import numpy as np
import pytest

from lucid_relic.threads import side_by_side


@pytest.mark.parametrize("count", [0, 1, 7, 8, 9, 100])
def test_answers_come_in_order_whatever_their_number(count: int) -> None:
    assert side_by_side(lambda k: k * k, iter(range(count))) == [k * k for k in range(count)]


def test_what_it_raises_is_raised_here() -> None:
    with pytest.raises(ZeroDivisionError):
        side_by_side(lambda k: 1 // (k - 5), range(10))


def test_work_that_shares_nothing_is_what_it_is_one_by_one() -> None:
    parts = list(np.random.default_rng(3).normal(size=(40, 300)))
    assert side_by_side(np.sum, parts) == [np.sum(p) for p in parts]
