"""The live service: holds opened states in memory and answers previews within a blink.

It keeps nothing of its own: it may die at any moment, and whoever asked asks again. Of several previews that wait
on one connection only the newest is worked out.
"""

import asyncio
import contextlib
import logging
import threading
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

from django.conf import settings
from django.db import connection

from live.desk import Desk
from live.making import GONE, make
from live.opened import OpenedStates
from live.sights import coverage, hand, sight
from live.wire import read_message, write_message
from objects import core_door
from objects.models import Snapshot

log = logging.getLogger(__name__)
QUICK = ("frame", "photograph")  # what somebody waits for beside a capture: not behind a download
NEWEST_ONLY = ("preview", "sight", "coverage")  # of those that wait on one connection the newest is worked out
BENCH = "bench"
# What the capture desk asks, in lanes of their own: no state that is opened holds them up.
ASIDE = {"sight": sight, "coverage": coverage, "hand": hand}
UNEXPECTED = "This failed unexpectedly; the log of the live service has the details. Nothing was changed."


def load_snapshot(snapshot: str) -> core_door.OpenedState:
    """A snapshot by its id, ready for previews; raises `InputError` when there is none."""
    try:
        row = Snapshot.objects.filter(pk=snapshot).first()
    finally:
        connection.close()
    if row is None:
        raise core_door.InputError(GONE)
    return core_door.open_for_preview(row.manifest)


class LiveService:
    """Answers on a local socket."""

    def __init__(self) -> None:
        self.states = OpenedStates(load_snapshot, settings.LIVE_MEMORY_BYTES)
        # One thread computes, the compiled loops use all cores; another loads meanwhile.
        self.pool = ThreadPoolExecutor(2, thread_name_prefix="live")
        # Files are made one after the other, beside the previews: nobody makes the same one twice.
        self.maker = ThreadPoolExecutor(1, thread_name_prefix="maker")
        # What the head sees comes while states are opened, files made and coverage worked out.
        self.aside = {kind: ThreadPoolExecutor(1, thread_name_prefix=kind) for kind in ASIDE}

    async def serve(self, path: Path) -> None:
        """Listen until cancelled; a socket left by a service that died is taken over."""
        threading.Thread(target=Desk().run, daemon=True, name="desk of passes").start()
        path.unlink(missing_ok=True)
        server = await asyncio.start_unix_server(self._answer, path)
        path.chmod(0o600)
        async with server:
            await server.serve_forever()

    async def _answer(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        """One connection: read on while one request of each lane is worked out."""
        lanes: dict[str, asyncio.Queue[dict[str, Any]]] = {lane: asyncio.Queue() for lane in (BENCH, *ASIDE)}
        working = [asyncio.create_task(self._work(waiting, writer)) for waiting in lanes.values()]
        try:
            while True:
                head, _ = await read_message(reader)
                waiting = lanes.get(head.get("kind"), lanes[BENCH])
                if head.get("kind") in NEWEST_ONLY:
                    while not waiting.empty():
                        waiting.get_nowait()
                waiting.put_nowait(head)
        except (ConnectionError, asyncio.CancelledError):
            pass  # the other side went, or the service ends: there is nobody to answer
        finally:
            for task in working:
                task.cancel()
                with contextlib.suppress(asyncio.CancelledError, ConnectionError):
                    await task
            writer.close()

    async def _work(self, waiting: asyncio.Queue[dict[str, Any]], writer: asyncio.StreamWriter) -> None:
        loop = asyncio.get_running_loop()
        while True:
            head = await waiting.get()
            pool = self.aside.get(head.get("kind"), self.pool)
            if head.get("kind") == "make" and head.get("what") not in QUICK:
                pool = self.maker
            answer, body = await loop.run_in_executor(pool, self._made, head)
            await write_message(writer, answer, body)

    def _made(self, head: dict[str, Any]) -> tuple[dict[str, Any], bytes]:
        """Head and body of the answer to a request; every fault becomes a sentence."""
        echo = {"id": head.get("id"), "snapshot": head.get("snapshot"), "kind": head.get("kind")}
        try:
            if head["kind"] == "make":
                path = make(head)
                return {**echo, "kind": "made", "path": path and str(path)}, b""
            if head["kind"] in ASIDE:
                return echo, ASIDE[head["kind"]](head, echo)
            state = self.states.get(str(head["snapshot"]))
            if head["kind"] == "open":
                return {**echo, "kind": "opened"}, b""
            return echo, core_door.preview(state, head["operation"], head["parameters"], echo)
        except core_door.LucidRelicError as error:
            fault = str(error)
        except Exception:
            log.exception("A request failed")
            fault = UNEXPECTED
        return {**echo, "kind": "refused", "of": head.get("kind"), "error": fault}, b""
