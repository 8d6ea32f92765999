"""Server-sent events: what changed among what a person sees, as it happens."""

import asyncio
from collections.abc import AsyncIterator
from typing import Any

from asgiref.sync import sync_to_async
from django.db import connection
from django.http import HttpRequest, HttpResponse, StreamingHttpResponse

from api.changes import EVERYBODY, Watch, lately
from api.people import stands_for
from api.streaming import signed_in
from objects.selectors import objects_of

KEEPALIVE_SECONDS = 15
ASK_SECONDS = 2  # between two looks whether the person is still signed in, and what they may see
watch = Watch()


@signed_in
async def events(request: HttpRequest, person: Any) -> HttpResponse:
    """A stream of `job` events, each with the whole job and, for captures, the frames so far, and `object` events.

    An `object` event names an object that an action changed, so that every bench that shows it loads it anew; an
    `instrument` event names one whose stand or check changed, for people who work here. The stream ends when the person signs out or the visitor's links end.
    """
    if request.method == "HEAD":
        return HttpResponse(content_type="text/event-stream")
    response = StreamingHttpResponse(_stream(request, person), content_type="text/event-stream")
    response["Cache-Control"] = "no-cache"
    response["X-Accel-Buffering"] = "no"
    return response


async def _stream(request: HttpRequest, person: Any) -> AsyncIterator[str]:
    loop = asyncio.get_running_loop()
    asked = said = loop.time()
    seen = await sync_to_async(_seen)(person)
    with watch.listening() as queue:
        yield "retry: 1000\n\n"
        for change in await sync_to_async(lately)():
            if change[1] in seen:
                yield _event(change)
        while True:
            try:
                change = await asyncio.wait_for(queue.get(), ASK_SECONDS)
            except TimeoutError:
                change = None
            if loop.time() - asked >= ASK_SECONDS:
                asked = loop.time()
                if not await stands_for(request.scope, person):
                    return
                seen = await sync_to_async(_seen)(person)
            if change is not None:
                if change[1] == EVERYBODY:
                    if person.pk is not None:
                        said = loop.time()
                        yield _event(change)
                    continue
                if change[1] not in seen:
                    seen = await sync_to_async(_seen)(person)
                if change[1] in seen:
                    said = loop.time()
                    yield _event(change)
            elif loop.time() - said > KEEPALIVE_SECONDS:
                said = loop.time()
                yield ": still here\n\n"


def _event(change: tuple[str, str, str]) -> str:
    return f"event: {change[0]}\ndata: {change[2]}\n\n"


def _seen(person: Any) -> set[str]:
    found = {str(pk) for pk in objects_of(person).values_list("pk", flat=True)}
    connection.close()
    return found
