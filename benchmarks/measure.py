"""What a piece of work costs: wall and CPU seconds, and the process's peak memory."""

import resource
import time
from collections.abc import Callable
from dataclasses import dataclass
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
    wall, cpu = time.perf_counter(), time.process_time()
    answer = work()
    wall, cpu = time.perf_counter() - wall, time.process_time() - cpu
    return answer, Cost(wall, cpu, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e6)
