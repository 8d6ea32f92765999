"""Where children of a worker come from: a fork server that has loaded the core but never computed."""

import multiprocessing
from multiprocessing import forkserver
from multiprocessing.context import ForkServerContext

LOADED = ["jobs.child"]


def nursery() -> ForkServerContext:
    """What children are begun from."""
    context = multiprocessing.get_context("forkserver")
    context.set_forkserver_preload(LOADED)
    return context


def make_ready() -> None:
    """Begin to load the core, so that the first job does not wait for it; returns at once.

    To be called in a thread that lives as long as the worker: the fork server ends with it.
    """
    nursery()
    forkserver.ensure_running()
