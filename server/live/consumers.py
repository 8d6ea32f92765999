"""One WebSocket for each bench that is open: previews out of the live service, for the object's owner only."""

import asyncio
import contextlib
import json
from typing import Any

from channels.db import database_sync_to_async
from channels.generic.websocket import AsyncWebsocketConsumer
from django.conf import settings

from accounts.sessions import person_behind
from live.wire import read_message, write_message
from objects.selectors import LOOK, objects_of, role_of, snapshots_of

NOT_YOURS, NOT_SIGNED_IN = 4404, 4403  # close codes that the bench does not try again after
RECONNECT_SECONDS = 0.25
KINDS = ("open", "preview")
ALLOWED_SECONDS = 2


class BenchConsumer(AsyncWebsocketConsumer):
    """Passes requests on to the live service and its answers back; says when the service is gone and back."""

    async def connect(self) -> None:
        """Let the owner in; everybody else is told why not by the close code."""
        await self.accept()
        self.service: asyncio.StreamWriter | None = None
        self.link: asyncio.Task[None] | None = None
        self.look: asyncio.Task[None] | None = None
        self.allowed: set[str] = set()
        self.object_id = self.scope["url_route"]["kwargs"]["object_id"]
        refusal = await database_sync_to_async(self._refusal)()
        if refusal is not None:
            return await self.close(refusal)
        self.link = asyncio.create_task(self._keep_linked())
        self.look = asyncio.create_task(self._while_allowed())

    async def disconnect(self, code: int) -> None:
        """Let go of the service."""
        for task in (self.link, self.look):
            if task is not None and task is not asyncio.current_task():
                task.cancel()
                with contextlib.suppress(asyncio.CancelledError):
                    await task

    async def receive(self, text_data: str | None = None, bytes_data: bytes | None = None) -> None:
        """A request: {id, kind, snapshot, operation, parameters}."""
        try:
            head = json.loads(text_data or "")
            asked: dict[str, Any] = {
                "id": int(head["id"]), "kind": str(head["kind"]), "snapshot": str(head["snapshot"]),
            }  # fmt: skip
            if asked["kind"] not in KINDS or not isinstance(head.get("parameters", {}), dict):
                raise ValueError
        except (ValueError, KeyError, TypeError, RecursionError, OverflowError):
            return await self._say(id=None, kind="refused", error="This is not a request that a bench can make.")
        if not await self._may_see(asked["snapshot"]):
            return await self._say(**{**asked, "kind": "refused"}, error="There is no such state of this object.")
        request = {**asked, "operation": head.get("operation"), "parameters": head.get("parameters", {})}
        if self.service is None:
            return await self._lost(asked)
        try:
            await write_message(self.service, request)
        except (ConnectionError, RuntimeError):
            await self._lost(asked)

    async def _while_allowed(self) -> None:
        """Close when the person signs out or may not work on the object any more."""
        while (refusal := await database_sync_to_async(self._refusal)()) is None:
            await asyncio.sleep(ALLOWED_SECONDS)
        await self.close(refusal)

    def _refusal(self) -> int | None:
        """The close code for who may not work on the object, asked anew of their session; None for who may."""
        self.person = person_behind(self.scope)
        if self.person is None:
            return NOT_SIGNED_IN
        found = objects_of(self.person).filter(pk=self.object_id).first()
        return NOT_YOURS if found is None or role_of(found, self.person) == LOOK else None

    async def _may_see(self, snapshot: str) -> bool:
        """Whether a snapshot is one of this object's; asked once for each."""
        if snapshot not in self.allowed:
            rows = snapshots_of(self.person).filter(scan_object=self.object_id)
            try:
                known = await database_sync_to_async(rows.filter(pk=snapshot).exists)()
            except Exception:  # not a UUID
                known = False
            if known:
                self.allowed.add(snapshot)
        return snapshot in self.allowed

    async def _keep_linked(self) -> None:
        """Hold a connection to the service, and come back to it whenever it was lost."""
        told_down = False
        while True:
            try:
                reader, writer = await asyncio.open_unix_connection(settings.LIVE_SOCKET)
            except OSError:
                if not told_down:
                    await self._say(kind="live", state="down")
                told_down = True
                await asyncio.sleep(RECONNECT_SECONDS)
                continue
            self.service, told_down = writer, False
            await self._say(kind="live", state="up")
            try:
                while True:
                    head, body = await read_message(reader)
                    await (self.send(bytes_data=body) if body else self._say(**head))
            except ConnectionError:
                pass
            finally:
                self.service = None
                writer.close()

    async def _lost(self, asked: dict[str, Any]) -> None:
        await self._say(**{**asked, "kind": "lost"})

    async def _say(self, **message: Any) -> None:
        await self.send(text_data=json.dumps(message))
