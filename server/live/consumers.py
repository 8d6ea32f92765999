"""One WebSocket for each bench that is open: previews out of the live service, for the object's owner only."""

import asyncio
import contextlib
import json
from typing import Any

from channels.db import database_sync_to_async
from channels.generic.websocket import AsyncWebsocketConsumer
from django.conf import settings
from django.core.exceptions import ValidationError

from accounts.sessions import person_behind
from live.sights import set_up_fault, steering_of
from live.wire import read_message, write_message
from objects import core_door
from objects.selectors import LOOK, captures_of, objects_of, role_of, snapshots_of

NOT_YOURS, NOT_SIGNED_IN = 4404, 4403  # close codes that the bench does not try again after
RECONNECT_SECONDS = 0.25
KINDS = ("open", "preview")
SIGHT, COVERAGE, HAND = "sight", "coverage", "hand"
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
        """A request: {id, kind, snapshot, operation, parameters}, {id, kind: "sight", set_up},
        {id, kind: "coverage", snapshot or capture, use, instrument}, or {id, kind: "hand", capture, since, plainly, steer}."""
        try:
            head = json.loads(text_data or "")
            if head["kind"] == SIGHT:
                return await self._look(int(head["id"]), head["set_up"])
            if head["kind"] == COVERAGE:
                return await self._cover(int(head["id"]), head)
            if head["kind"] == HAND:
                return await self._follow(int(head["id"]), head)
            asked: dict[str, Any] = {
                "id": int(head["id"]), "kind": str(head["kind"]), "snapshot": str(head["snapshot"]),
            }  # fmt: skip
            if asked["kind"] not in KINDS or not isinstance(head.get("parameters", {}), dict):
                raise ValueError
        except (ValueError, KeyError, TypeError, AttributeError, RecursionError, OverflowError):
            return await self._say(id=None, kind="refused", error="This is not a request that a bench can make.")
        if not await self._may_see(asked["snapshot"]):
            return await self._say(**{**asked, "kind": "refused"}, error="There is no such state of this object.")
        request = {**asked, "operation": head.get("operation"), "parameters": head.get("parameters", {})}
        await self._pass_on(asked, request)

    async def _look(self, number: int, set_up: Any) -> None:
        """Ask what the head sees with a set-up of the table."""
        asked = {"id": number, "kind": SIGHT, "snapshot": ""}
        refusal = await database_sync_to_async(set_up_fault)(set_up)
        if refusal:
            return await self._say(**{**asked, "kind": "refused", "of": SIGHT}, error=refusal)
        request = {**asked, "set_up": set_up, "object": str(self.object_id)}
        await self._pass_on(asked, request)

    async def _cover(self, number: int, head: dict[str, Any]) -> None:
        """Ask how well the object was seen, or what is taken of it just now."""
        capture, snapshot = head.get("capture"), str(head.get("snapshot") or "")
        use, instrument = head.get("use", core_door.USES[0]), head.get("instrument", core_door.INSTRUMENT_NAMES[0])
        asked = {"id": number, "kind": COVERAGE, "snapshot": snapshot}
        if use not in core_door.USES or instrument not in core_door.INSTRUMENT_NAMES:
            raise ValueError
        its_own = await self._has_capture(str(capture)) if capture else await self._may_see(snapshot)
        if not its_own:
            return await self._say(
                **{**asked, "kind": "refused", "of": COVERAGE}, error="There is no such state of this object."
            )
        more = {"capture": capture and str(capture), "use": use, "instrument": instrument}
        await self._pass_on(asked, {**asked, **more})

    async def _follow(self, number: int, head: dict[str, Any]) -> None:
        """Ask what there is to see of a pass by hand, and steer its head."""
        asked = {"id": number, "kind": HAND, "snapshot": ""}
        more: dict[str, Any] = {
            "capture": str(head["capture"]),
            "since": int(head.get("since", -1)),
            "plainly": bool(head.get("plainly")),
            "steer": steering_of(head.get("steer")),
        }
        if more["capture"] not in self.allowed:
            if not await self._has_capture(more["capture"]):
                return await self._say(
                    **{**asked, "kind": "refused", "of": HAND}, error="There is no such pass of this object."
                )
            self.allowed.add(more["capture"])
        await self._pass_on(asked, {**asked, **more})

    async def _has_capture(self, capture: str) -> bool:
        """Whether a capture is one of this object's."""
        rows = captures_of(self.person).filter(scan_object=self.object_id)
        try:
            return await database_sync_to_async(rows.filter(pk=capture).exists)()
        except ValidationError:  # not a UUID
            return False

    async def _pass_on(self, asked: dict[str, Any], request: dict[str, Any]) -> None:
        """Send a request to the service, or tell the bench that it is lost."""
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
