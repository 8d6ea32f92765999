"""Where heavy loops run: here by default, and on a real Dask cluster with the same answer."""

import os
import re
import subprocess
import sys
import time
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from lucid_relic import executor
from lucid_relic.errors import Cancelled, StepNotPossible
from lucid_relic.executor import InlineExecutor, in_order
from lucid_relic.fusion.tsdf import fuse_volume
from lucid_relic.io.capture_folder import CaptureFolder
from lucid_relic.operations import get_operation
from lucid_relic.progress import silent
from lucid_relic.types import ScanState

ROOT = Path(__file__).parents[2]


def square(x: int) -> int:
    return x * x


def test_results_come_in_order_with_progress() -> None:
    told = []
    out = list(in_order(square, ((k,) for k in range(5)), 5, lambda f, m: told.append(f), "Counting"))
    assert out == [0, 1, 4, 9, 16]
    assert told == [0.0, 0.2, 0.4, 0.6, 0.8]


def test_a_wish_to_stop_ends_the_loop() -> None:
    def stop(fraction: float, message: str) -> None:
        if fraction > 0.3:
            raise Cancelled

    with pytest.raises(Cancelled):
        list(in_order(square, ((k,) for k in range(10)), 10, stop, ""))


def test_an_error_keeps_its_kind() -> None:
    future = InlineExecutor().submit(square, "x")
    with pytest.raises(TypeError):
        future.result()


def test_a_scheduler_that_does_not_answer_is_named(monkeypatch) -> None:
    monkeypatch.setenv(executor.VARIABLE, "tcp://127.0.0.1:9")
    monkeypatch.setattr(executor, "CONNECT_SECONDS", 1)
    with pytest.raises(StepNotPossible, match="127.0.0.1:9"):
        executor.worker_count()


@pytest.fixture
def cluster(tmp_path):
    """A scheduler and two workers as processes of their own; its address."""
    environment = {**os.environ, "PYTHONWARNINGS": "ignore", "NUMBA_NUM_THREADS": "1"}
    log = tmp_path / "scheduler.log"
    command = [
        sys.executable,
        "-m",
        "distributed.cli.dask_scheduler",
        "--host",
        "127.0.0.1",
        "--port",
        "0",
        "--no-dashboard",
    ]
    processes = [subprocess.Popen(command, stderr=log.open("w"), env=environment, cwd=tmp_path)]
    try:
        address = _wait_for(log, r"Scheduler at:\s+(tcp://\S+)")
        for n in range(2):
            command = [
                sys.executable, "-m", "distributed.cli.dask_worker", address, "--nthreads", "1", "--nworkers", "1",
                "--name", f"w{n}", "--no-dashboard", "--local-directory", str(tmp_path / f"w{n}"),
            ]  # fmt: skip
            out = tmp_path / f"worker{n}.log"
            processes.append(subprocess.Popen(command, stderr=out.open("w"), env=environment, cwd=tmp_path))
            _wait_for(out, r"Registered to:\s+(tcp://\S+)")
        yield address
    finally:
        for process in reversed(processes):
            process.kill()
            process.wait()


def _wait_for(log: Path, pattern: str) -> str:
    until = time.monotonic() + 60
    while time.monotonic() < until:
        found = re.search(pattern, log.read_text() if log.exists() else "")
        if found:
            return found[1]
        time.sleep(0.1)
    raise AssertionError(log.read_text())


@pytest.mark.filterwarnings("ignore")
def test_a_cluster_gives_the_same_answer(captures, cluster, monkeypatch) -> None:
    state = ScanState((CaptureFolder(captures[0]).as_pass(),))
    place = get_operation("place_frames")
    state, _ = place.run(state, place.parameters(), silent)
    state = state.with_pass(0, replace(state.passes[0], placed=True))
    answers = {}
    for where in ("here", cluster):
        if where != "here":
            monkeypatch.setenv(executor.VARIABLE, where)
            assert executor.worker_count() == 2
        cut = get_operation("stand_cut").run(state, get_operation("stand_cut").parameters(), silent)[0]
        trimmed = get_operation("trim_fuzz").run(cut, get_operation("trim_fuzz").parameters(), silent)[0]
        answers[where] = (trimmed.passes[0].keep, fuse_volume(trimmed, 1.5, silent))
    (keep_a, a), (keep_b, b) = answers["here"], answers[cluster]
    assert np.array_equal(keep_a, keep_b) and np.array_equal(a.coords, b.coords)
    assert np.array_equal(a.distance, b.distance) and np.array_equal(a.weight, b.weight)
    assert np.array_equal(a.colour, b.colour)
