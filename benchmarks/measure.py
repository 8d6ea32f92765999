"""What a piece of work costs: wall and CPU seconds, and the process's peak memory."""

import ctypes
import gc
import re
import resource
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from statistics import median
from typing import Any


@dataclass(frozen=True)
class Cost:
    """Seconds on the clock, seconds of all cores, and the process's peak memory so far in GB."""

    wall: float
    cpu: float
    peak_gb: float


def measured(work: Callable[[], Any], warm_up: bool = True) -> tuple[Any, Cost]:
    """Do it twice (the first time compiles and fills caches) and report the second."""
    if warm_up:
        work()
    return _once(work)


def measured_in_turn(works: dict[str, Callable[[], Any]], rounds: int = 7) -> dict[str, tuple[Any, Cost]]:
    """Do all, one after the other, again and again, and report each one's median; the first round is not counted.

    So that a noisy neighbour troubles all of them alike.
    """
    answers: dict[str, Any] = {}
    costs: dict[str, list[Cost]] = {name: [] for name in works}
    for n in range(rounds + 1):
        for name, work in works.items():
            answers[name], cost = _once(work)
            if n:
                costs[name].append(cost)
    return {
        name: (answers[name], Cost(median(c.wall for c in of), median(c.cpu for c in of), of[-1].peak_gb))
        for name, of in costs.items()
    }


def _once(work: Callable[[], Any]) -> tuple[Any, Cost]:
    wall, cpu = time.perf_counter(), time.process_time()
    answer = work()
    wall, cpu = time.perf_counter() - wall, time.process_time() - cpu
    return answer, Cost(wall, cpu, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e6)


def peak_mb(work: Callable[[], Any]) -> tuple[Any, float, float]:
    """Do it twice and report of the second the process's peak memory, and how far that lay over where it began; in MB.

    Linux with glibc only: what lies free goes back to the kernel before, which is told to forget the peak.
    """
    work()
    gc.collect()
    ctypes.CDLL("libc.so.6").malloc_trim(0)
    Path("/proc/self/clear_refs").write_text("5")
    before = _status("VmRSS")
    answer = work()
    peak = _status("VmHWM")
    return answer, peak, peak - before


def resident_mb() -> float:
    """What the process holds in memory just now, in MB (Linux)."""
    gc.collect()
    return _status("VmRSS")


def _status(key: str) -> float:
    found = re.search(rf"{key}:\s+(\d+)", Path("/proc/self/status").read_text())
    assert found
    return int(found[1]) / 1e3
