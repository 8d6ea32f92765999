"""Processes that are forked begin their loops at once; work side by side comes back whole and in order."""

import subprocess
import sys

import numpy as np
import pytest

from lucid_relic.threads import side_by_side

READY = """
import os
import numpy as np
from numba.core.registry import cpu_target
import lucid_relic.operations
from lucid_relic.geometry import points
from lucid_relic.threads import make_loops_ready

threads = len(os.listdir("/proc/self/task"))
assert not cpu_target.typing_context._registries
make_loops_ready()
assert cpu_target.typing_context._registries and cpu_target.target_context._registries
# No thread beside those of the linear algebra, which bear a fork.
assert len(os.listdir("/proc/self/task")) == threads
child = os.fork()
if child == 0:
    thin = points.thin(points.PointCloud(np.float32([[0, 0, 0], [0.2, 0, 0], [3, 0, 0]]), None), 1.0)
    os._exit(0 if np.allclose(thin.points, [[0.1, 0, 0], [3, 0, 0]]) else 3)
assert os.waitpid(child, 0)[1] == 0
"""


def test_loops_made_ready_run_after_a_fork_and_start_no_thread_before() -> None:
    done = subprocess.run([sys.executable, "-c", READY], capture_output=True, text=True)
    assert done.returncode == 0, done.stderr


@pytest.mark.parametrize("count", [0, 1, 7, 8, 9, 100])
def test_answers_come_in_order_whatever_their_number(count: int) -> None:
    assert side_by_side(lambda k: k * k, iter(range(count))) == [k * k for k in range(count)]


def test_what_it_raises_is_raised_here() -> None:
    with pytest.raises(ZeroDivisionError):
        side_by_side(lambda k: 1 // (k - 5), range(10))


def test_work_that_shares_nothing_is_what_it_is_one_by_one() -> None:
    parts = list(np.random.default_rng(3).normal(size=(40, 300)))
    assert side_by_side(np.sum, parts) == [np.sum(p) for p in parts]
