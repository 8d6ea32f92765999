"""Where heavy loops run: here, or on a Dask cluster, behind the protocol of `concurrent.futures`.

By default work runs at once in this process, whose compiled loops use all cores already. With the
environment variable `LUCID_RELIC_DASK` set to a scheduler's address (`tcp://host:8786`) the same functions
run on that cluster; its workers need this package and must see the same files. The pieces that work is
cut into do not depend on where it runs beyond their number, and results are put together in order, so
both ways give the same answer.
"""

import os
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Executor, Future
from contextlib import contextmanager
from typing import Any, TypeVar

from lucid_relic.errors import StepNotPossible
from lucid_relic.progress import Progress

VARIABLE = "LUCID_RELIC_DASK"
CONNECT_SECONDS = 10  # until a scheduler that does not answer is named
IN_FLIGHT = 3  # tasks waiting per worker, so that a long list is not sent all at once
T = TypeVar("T")


class InlineExecutor(Executor):
    """Runs every call at once in the calling thread."""

    def submit(self, fn: Callable[..., T], /, *args: Any, **kwargs: Any) -> "Future[T]":
        """Call now; the future that comes back is done."""
        future: Future[T] = Future()
        try:
            future.set_result(fn(*args, **kwargs))
        except Exception as error:
            future.set_exception(error)
        return future


@contextmanager
def current_executor() -> Iterator[tuple[Executor, int]]:
    """The executor to use and how many workers stand behind it."""
    address = os.environ.get(VARIABLE, "")
    if not address:
        yield InlineExecutor(), 1
        return
    try:
        from distributed import Client
    except ImportError:
        raise StepNotPossible(
            f"{VARIABLE} is set, but “distributed” is not installed: pip install distributed."
        ) from None
    try:
        client = Client(address, timeout=CONNECT_SECONDS)
    except (OSError, ValueError) as why:
        raise StepNotPossible(f"No Dask scheduler answers at {address} ({VARIABLE}): {why}.") from None
    with client:
        workers = max(len(client.scheduler_info()["workers"]), 1)
        yield client.get_executor(pure=False), workers


def in_order(
    function: Callable[..., T], calls: Iterable[tuple[Any, ...]], total: int, progress: Progress, message: str
) -> Iterator[T]:
    """Results of `function(*arguments)` for every tuple of arguments, in order, with bounded look-ahead.

    Waiting calls are withdrawn when the caller stops, be it by an error or because `progress` raises.
    """
    with current_executor() as (executor, workers):
        waiting: list[Future[T]] = []
        done = 0
        try:
            for arguments in calls:
                waiting.append(executor.submit(function, *arguments))
                if len(waiting) >= (1 if workers == 1 else IN_FLIGHT * workers):
                    progress(done / max(total, 1), message)
                    yield waiting.pop(0).result()
                    done += 1
            while waiting:
                progress(done / max(total, 1), message)
                yield waiting.pop(0).result()
                done += 1
        finally:
            for future in waiting:
                future.cancel()


def worker_count() -> int:
    """How many workers the current executor has; 1 means that work runs here."""
    with current_executor() as (_, workers):
        return workers
