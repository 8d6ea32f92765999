"""The live service through its WebSocket: previews right and fast, only for the owner, and it may die at any moment."""

import asyncio
import json
import shutil
import threading
import time
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager

import numpy as np
import pytest
from asgiref.testing import ApplicationCommunicator
from django.conf import settings
from django.contrib.auth import get_user_model
from django.test import Client
from live_service import Service

from live.opened import OpenedStates
from live.wire import LENGTHS, read_message
from objects import actions, core_door
from objects.models import Capture, ScanObject

pytestmark = pytest.mark.django_db(transaction=True)
PASSWORD = "tide-and-slate-7"


@pytest.fixture
def service():
    running = Service()
    running.start()
    yield running
    running.kill()


@pytest.fixture
def lump(captures) -> ScanObject:
    user = get_user_model().objects.create_user("mira", password=PASSWORD)
    scan_object = actions.create_object(user, "Lump")
    for folder in captures[:2]:
        capture = Capture.objects.create(scan_object=scan_object, title=folder.name, frames=12)
        into = shutil.copytree(folder, core_door.capture_path(str(capture.id))) / "capture.json"
        tip = {"upright": 0.0, "tipped": 90.0}[folder.name]
        told = {**json.loads(into.read_text()), "set_up": {"instrument": "desk", "tip_deg": tip}}
        into.write_text(json.dumps(told))
        actions.complete_capture(capture, user.id, None, 0.0)
    # All that the event loop asks of it is fetched here: rows may not be read there.
    return ScanObject.objects.select_related("owner", "head").get(pk=scan_object.pk)


class Bench:
    """A bench's end of the WebSocket, as the ASGI specification (3.0, websockets 2.3) has it."""

    def __init__(self, socket: ApplicationCommunicator) -> None:
        self.socket = socket
        self.let_in = False

    async def connect(self) -> None:
        await self.socket.send_input({"type": "websocket.connect"})
        self.let_in = (await self.socket.receive_output(20))["type"] == "websocket.accept"

    async def say(self, text: str) -> None:
        await self.socket.send_input({"type": "websocket.receive", "text": text})

    async def ask(self, number: int, snapshot: object, kind: str = "preview", **more: object) -> None:
        request = {"id": number, "kind": kind, "snapshot": str(snapshot), "operation": "stand_cut", **more}
        await self.say(json.dumps(request))

    async def answer(self, seconds: float = 120) -> dict:
        message = await self.socket.receive_output(seconds)
        assert message["type"] == "websocket.send", message
        got = message.get("bytes")
        if got is None:
            return json.loads(message["text"])
        from lucid_relic.view.packing import unpack_arrays

        head, arrays = unpack_arrays(got)
        return {**head, "arrays": arrays}

    async def until(self, **wanted: object) -> dict:
        while True:
            got = await self.answer()
            if all(got.get(k) == v for k, v in wanted.items()):
                return got


@asynccontextmanager
async def bench_of(who: object, object_id: object, origin: str = "http://testserver") -> AsyncIterator[Bench]:
    from config.asgi import application

    headers = [(b"origin", origin.encode()), (b"host", b"testserver")]
    if who is not None:
        client = await asyncio.to_thread(_signed_in, who)
        headers.append((b"cookie", f"{settings.SESSION_COOKIE_NAME}={client}".encode()))
    scope = {"type": "websocket", "path": f"/ws/objects/{object_id}", "headers": headers, "query_string": b"",
             "subprotocols": []}  # fmt: skip
    bench = Bench(ApplicationCommunicator(application, scope))
    await bench.connect()
    try:
        yield bench
    finally:
        if bench.let_in:
            await bench.socket.send_input({"type": "websocket.disconnect", "code": 1000})
            await bench.socket.wait(20)


def _signed_in(who: object) -> str:
    client = Client()
    client.force_login(who, backend="django.contrib.auth.backends.ModelBackend")
    return client.cookies[settings.SESSION_COOKIE_NAME].value


def _leaves(figures: object) -> list[object]:
    """What nested figures hold, names included, one after the other."""
    if isinstance(figures, dict):
        return [leaf for key in sorted(figures) for leaf in (key, *_leaves(figures[key]))]
    return [leaf for one in figures for leaf in _leaves(one)] if isinstance(figures, list) else [figures]


def test_a_preview_is_what_the_core_shows_and_fits_the_points_of_the_view(service: Service, lump: ScanObject) -> None:
    async def talk() -> dict:
        async with bench_of(lump.owner, lump.id) as bench:
            await bench.until(kind="live", state="up")
            await bench.ask(1, lump.head_id, "open")
            assert (await bench.answer())["kind"] == "opened"
            await bench.ask(2, lump.head_id, parameters={"above_mm": 6.0})
            got = await bench.answer()
            wrong = {}
            for number, body in enumerate(({"above_mm": 900}, {"depth": 1}, {"planes": {"x": [0, 0, 1, 2]}}), 3):
                await bench.ask(number, lump.head_id, parameters=body)
                wrong[number] = await bench.answer()
            await bench.ask(9, lump.head_id, parameters={}, operation="close")
            wrong[9] = await bench.answer()
            assert [w["kind"] for w in wrong.values()] == ["refused"] * 4 and all(w["error"] for w in wrong.values())
            return got

    got = asyncio.run(talk())
    assert got["id"] == 2 and got["snapshot"] == str(lump.head_id) and got["kind"] == "preview"
    opened = core_door.open_for_preview(lump.head.manifest)
    from lucid_relic.view.packing import unpack_arrays

    head, arrays = unpack_arrays(core_door.preview(opened, "stand_cut", {"above_mm": 6.0}, {}))
    # Two processes add up in another order, so a point at the edge of the plate's band may count in one of them alone: one
    # of ten thousand turns the plane by 1e-7 and moves its scatter by one ten-thousandth. What is cut stays the same.
    for part in ("figures", "layers"):
        told, here = _leaves(got[part]), _leaves(json.loads(json.dumps(head[part])))
        assert told == [pytest.approx(x, rel=1e-3, abs=1e-6) if isinstance(x, float) else x for x in here]
    assert all(np.allclose(got["arrays"][k], v, rtol=0, atol=1e-4) for k, v in arrays.items())
    # The very points that the viewer shows, in their order.
    shown, _ = unpack_arrays(core_door.make_pass(lump.head.manifest, 1).read_bytes())
    marked = next(layer for layer in head["layers"] if layer["kind"] == "marked" and layer["pass"] == "tipped")
    assert marked["digest"] == shown["digest"] and shown["count"] > 0


def test_a_preview_of_the_surface_loads_it_when_it_is_asked_for(lump: ScanObject) -> None:
    from lucid_relic.types import ScanState, TriangleMesh
    from lucid_relic.view.packing import unpack_arrays

    square = TriangleMesh(
        np.float32([[0, 0, 0], [4, 0, 0], [4, 4, 0], [0, 4, 0], [2, 2, 5]]),
        np.int32([[0, 1, 4], [1, 2, 4], [2, 3, 4], [3, 0, 4]]),
    )
    with core_door.storing():
        manifest, _, _ = core_door.save(ScanState(mesh=square))
    opened = core_door.open_for_preview(manifest)
    before = opened.nbytes()
    head, arrays = unpack_arrays(core_door.preview(opened, "patch_holes", {"how": "flat"}, {}))
    assert head["figures"]["holes"] == 1 and head["figures"]["area_mm2"] == pytest.approx(16.0)
    assert arrays["0.faces"].max() < len(arrays["0.vertices"]) and opened.nbytes() > before == 0


def test_only_the_owner_is_let_in_and_sees_only_this_object(lump: ScanObject) -> None:
    other = get_user_model().objects.create_user("other", password=PASSWORD)
    theirs = actions.create_object(other, "Net weight")

    async def talk() -> None:
        async with bench_of(None, lump.id) as bench:
            assert (await bench.socket.receive_output(5))["code"] == 4403
        async with bench_of(other, lump.id) as bench:
            assert (await bench.socket.receive_output(5))["code"] == 4404
        async with bench_of(lump.owner, lump.id, origin="http://elsewhere.example") as bench:
            assert not bench.let_in
        async with bench_of(other, theirs.id) as bench:
            await bench.ask(1, lump.head_id, parameters={})
            assert "no such state" in (await bench.until(kind="refused"))["error"]
            await bench.ask(2, "not-an-id", parameters={})
            assert "no such state" in (await bench.until(kind="refused"))["error"]
            for nonsense in ("", "{", "[]", '{"id": "x"}', '{"id": 1, "kind": "erase", "snapshot": "s"}', "[" * 20_000):
                await bench.say(nonsense)
                assert "not a request" in (await bench.until(kind="refused"))["error"]

    asyncio.run(talk())


def test_the_service_may_die_in_the_middle_of_previews_and_the_bench_goes_on(
    service: Service, lump: ScanObject
) -> None:
    async def talk() -> list[float]:
        waits = []
        async with bench_of(lump.owner, lump.id) as bench:
            await bench.until(kind="live", state="up")
            for turn in range(3):
                for n in range(5):
                    await bench.ask(100 * turn + n, lump.head_id, parameters={"above_mm": 1.0 + n})
                await asyncio.to_thread(service.kill)
                await bench.until(kind="live", state="down")
                await bench.ask(100 * turn + 50, lump.head_id, parameters={})
                assert (await bench.until(id=100 * turn + 50))["kind"] == "lost"
                began = time.monotonic()
                service.start()
                await bench.until(kind="live", state="up")
                await bench.ask(100 * turn + 60, lump.head_id, parameters={"above_mm": 2.0})
                assert (await bench.until(id=100 * turn + 60))["kind"] == "preview"
                waits.append(time.monotonic() - began)
        return waits

    assert len(asyncio.run(talk())) == 3
    lump.refresh_from_db()
    assert lump.steps.count() == 2, "a preview leaves no step"


def test_of_previews_that_wait_only_the_newest_is_worked_out(service: Service, lump: ScanObject) -> None:
    async def talk() -> list[int]:
        async with bench_of(lump.owner, lump.id) as bench:
            await bench.until(kind="live", state="up")
            for n in range(40):
                await bench.ask(n, lump.head_id, parameters={"above_mm": 1.0 + 0.1 * n})
            got = [(await bench.until(kind="preview"))["id"]]
            while got[-1] != 39:
                got.append((await bench.until(kind="preview"))["id"])
            return got

    got = asyncio.run(talk())
    assert got == sorted(got) and len(got) < 40


class Weight:
    """An opened state of a known size."""

    def __init__(self, size: int) -> None:
        self.size = size

    def nbytes(self) -> int:
        return self.size


def test_the_oldest_states_go_first_and_each_is_loaded_once() -> None:
    loads: list[str] = []

    def load(name: str) -> Weight:
        loads.append(name)
        time.sleep(0.05)
        return Weight({"large": 90}.get(name, 30))

    states = OpenedStates(load, 100)
    threads = [threading.Thread(target=states.get, args=("a",)) for _ in range(6)]
    [t.start() for t in threads]
    [t.join() for t in threads]
    assert loads == ["a"]
    for name in ("b", "c", "a", "d"):
        states.get(name)
    assert states.held() == ["c", "a", "d"] and loads == ["a", "b", "c", "d"]
    states.get("large")
    assert states.held() == ["large"]


def test_a_state_that_cannot_be_loaded_is_tried_again() -> None:
    tries: list[str] = []

    def load(name: str) -> Weight:
        tries.append(name)
        if len(tries) == 1:
            raise core_door.InputError("missing")
        return Weight(1)

    states = OpenedStates(load, 10)
    with pytest.raises(core_door.InputError):
        states.get("a")
    assert states.get("a").size == 1


def test_messages_come_whole_or_not_at_all() -> None:
    async def talk() -> None:
        reader = asyncio.StreamReader()
        reader.feed_data(LENGTHS.pack(2, 3) + b"{}" + b"abc" + LENGTHS.pack(5, 0) + b'{"a')
        reader.feed_eof()
        assert await read_message(reader) == ({}, b"abc")
        with pytest.raises(ConnectionError):
            await read_message(reader)
        for bad in (LENGTHS.pack(2**31, 0), LENGTHS.pack(2, 0) + b"{]"):
            reader = asyncio.StreamReader()
            reader.feed_data(bad)
            reader.feed_eof()
            with pytest.raises(ConnectionError):
                await read_message(reader)

    asyncio.run(talk())


def set_up(**changed: object) -> dict:
    return {"instrument": "desk", "stops": 12, "exposure_ms": [8.0], "title": "upright", **changed}


def test_the_head_shows_what_it_sees_and_only_the_newest_set_up_is_worked_out(service, lump, client: Client) -> None:
    """Sights of the owl: more exposure is too much, a gate takes away, infrared is told; each with its forecasts."""

    async def talk() -> tuple[dict, ...]:
        async with bench_of(lump.owner, lump.id) as bench:
            await bench.until(kind="live", state="up")
            out = []
            for number, change in enumerate(({}, {"exposure_ms": [64.0]}, {"gate_mm": [150.0, 200.0]})):
                await bench.say(json.dumps({"id": number, "kind": "sight", "set_up": set_up(**change)}))
                out.append(await bench.until(kind="sight", id=number))
            for number in range(10, 20):
                await bench.say(json.dumps({"id": number, "kind": "sight", "set_up": set_up(exposure_ms=[number])}))
            seen = []
            while not seen or seen[-1] != 19:
                seen.append((await bench.until(kind="sight"))["id"])
            return *out, {"seen": seen}

    plain, bright, gated, many = asyncio.run(talk())
    figures = plain["figures"]
    assert plain["layers"][0]["kind"] == "sight" and plain["arrays"]["0.photograph"].shape == (480, 640, 3)
    assert plain["arrays"]["0.marks"].shape == (480, 640)
    assert figures["frames"] == 12 and 0.1 < figures["minutes"] < 0.5 and figures["points"] > 10_000
    assert figures["slot_mm"] == [150.0, 620.0] and 240 < figures["distance_mm"] < 280 and max(figures["hill"]) == 1.0
    assert 8 <= figures["just_right_ms"] <= 30 and len(figures["light"]) == 32
    assert bright["figures"]["clipped"] > figures["clipped"] and (bright["arrays"]["0.marks"] == 1).sum() > 100
    assert sum(bright["figures"]["drop_out"].values()) > sum(figures["drop_out"].values())
    assert "Nothing of an object" in gated["figures"]["why"] and "grip" not in gated["figures"]
    assert len(many["seen"]) < 10, "set-ups that were overtaken are not worked out"


def test_coverage_of_the_object_and_of_a_pass_that_is_held(service, lump) -> None:
    """How well the lump was seen by its placed pass, and by one that waits to be accepted; nobody else's."""
    key = str(lump.captures.first().pk)
    stranger = actions.create_object(lump.owner, "Other")

    async def talk(object_id: object, **asked: object) -> dict:
        async with bench_of(lump.owner, object_id) as bench:
            await bench.until(kind="live", state="up")
            await bench.say(json.dumps({"id": 5, "kind": "coverage", **asked}))
            return await bench.until(id=5)

    whole = asyncio.run(talk(lump.id, snapshot=str(lump.head_id)))
    part = asyncio.run(talk(lump.id, capture=key))
    other = asyncio.run(talk(stranger.id, capture=key))
    assert whole["figures"]["whole"] and 0.2 < whole["figures"]["seen_enough"] < 0.95 and whole["figures"]["next"]
    (waiting,) = whole["figures"]["waiting"]
    place = whole["arrays"][f"0.shared_{len(whole['figures']['next'])}"]
    assert waiting["title"] == "tipped" and waiting["common"] > 0.3 and waiting["gain"] > 0.1
    assert len(place) == len(whole["arrays"]["0.vertices"]) and 0.1 < (place > 127).mean() < 0.9
    assert not part["figures"]["whole"] and part["figures"]["frames"] == 12
    vertices, level = part["arrays"]["0.vertices"], part["arrays"]["0.level"]
    assert vertices.shape == (len(level), 3) and level.max() == 255 and part["arrays"]["0.faces"].max() < len(level)
    assert other["kind"] == "refused" and other["of"] == "coverage"


@pytest.mark.parametrize(
    ("wrong", "says"),
    [
        ({"exposure_ms": [0.0]}, "The exposure must lie between 0.5 and 64 ms, not 0 ms"),
        ({"gate_mm": [400.0, 300.0]}, "inside out"),
        ({"stops": 0}, "A turn needs stops"),
        ({"instrument": "hand", "shots": True}, "no single shots"),
        ({"instrument": "anvil"}, "no such instrument"),
        ({"instrument": "jewel", "path": "long"}, "There is no path"),
        ({"gate_mm": "wide"}, "not a set-up"),
        ({"secret": 1}, "not a set-up"),
    ],
)
def test_a_set_up_that_cannot_be_is_refused_in_a_sentence(service, lump, wrong: dict, says: str) -> None:
    async def talk() -> dict:
        async with bench_of(lump.owner, lump.id) as bench:
            await bench.until(kind="live", state="up")
            await bench.say(json.dumps({"id": 3, "kind": "sight", "set_up": set_up(**wrong)}))
            return await bench.until(kind="refused", id=3)

    refused = asyncio.run(talk())
    assert refused["of"] == "sight" and says in refused["error"]
