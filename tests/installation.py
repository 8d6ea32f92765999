"""A real installation on a data folder of its own, driven through its API and killed at will.

Used by the tests in short runs and by `benchmarks/` in long ones.
"""

import http.client
import json
import os
import random
import signal
import socket
import sqlite3
import subprocess
import sys
import time
import uuid
from collections.abc import Callable, Iterator
from contextlib import closing
from pathlib import Path
from typing import Any

SERVER = Path(__file__).resolve().parents[1] / "server"
PASSWORD = "tide-and-slate-7"
PERSON = "mira"
ENDED = ("done", "failed", "cancelled")
ROLES = ("child", "worker", "live", "web", "serve", "tree")


class Answer:
    """One answer: status, headers, body."""

    def __init__(self, status: int, headers: dict[str, str], body: bytes) -> None:
        self.status, self.headers, self.body = status, headers, body

    def json(self) -> Any:
        return json.loads(self.body)


class Caller:
    """Somebody with a cookie jar and the page's token."""

    def __init__(self, port: int, timeout: float = 120) -> None:
        self.port, self.timeout = port, timeout
        self.cookies: dict[str, str] = {}

    def ask(self, method: str, path: str, body: Any = None, headers: dict[str, str] | None = None) -> Answer:
        """One request on a connection of its own; raises `OSError` when nobody answers."""
        told = {"Cookie": "; ".join(f"{k}={v}" for k, v in self.cookies.items())} if self.cookies else {}
        if method not in ("GET", "HEAD"):
            told["X-CSRFToken"] = self.cookies.get("csrftoken", "")
        if body is not None and not isinstance(body, bytes):
            body, told["Content-Type"] = json.dumps(body).encode(), "application/json"
        link = http.client.HTTPConnection("127.0.0.1", self.port, timeout=self.timeout)
        with closing(link):
            link.request(method, path, body, {**told, **(headers or {})})
            response = link.getresponse()
            data = response.read()
            for cookie in response.headers.get_all("Set-Cookie") or ():
                name, _, value = cookie.split(";")[0].partition("=")
                self.cookies[name] = value
        headers = {name.lower(): value for name, value in response.headers.items()}
        return Answer(response.status, headers, data)

    def sign_in(self, name: str = PERSON, password: str = PASSWORD) -> Answer:
        self.ask("GET", "/api/session")
        return self.ask("POST", "/api/session", {"username": name, "password": password})

    def send_zip(self, object_id: str, content: bytes, name: str = "upright.zip") -> Answer:
        kind = {"Content-Type": "application/zip"}
        return self.ask("POST", f"/api/objects/{object_id}/imports?name={name}", content, kind)


class Installation:
    """`manage.py serve` and its children."""

    def __init__(self, data: Path, **settings: str) -> None:
        self.data = data
        self.environment = {
            **{k: v for k, v in os.environ.items() if not k.startswith("LUCID_RELIC_")},
            "DJANGO_SETTINGS_MODULE": "config.settings", "LUCID_RELIC_DATA": str(data),
            "LUCID_RELIC_CACHE": os.environ.get("LUCID_RELIC_CACHE", str(data / "cache" / "models")),
            **settings,
        }  # fmt: skip
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            self.port = probe.getsockname()[1]
        self.serve: subprocess.Popen[bytes] | None = None
        self.lost_processes = 0

    def manage(self, *arguments: str, **more: Any) -> subprocess.CompletedProcess[str]:
        """Run a command of `manage.py` to its end."""
        command = [sys.executable, "manage.py", *arguments]
        return subprocess.run(
            command, cwd=SERVER, env={**self.environment, **more.pop("settings", {})}, text=True, capture_output=True,
            **more,
        )  # fmt: skip

    def found(self) -> Caller:
        """Make it, start it, and sign its first person in."""
        assert self.manage("migrate", "--verbosity", "0").returncode == 0
        made = self.manage("person", "add", PERSON, settings={"LUCID_RELIC_PASSWORD": PASSWORD})
        assert made.returncode == 0, made.stderr
        self.start()
        caller = Caller(self.port)
        assert caller.sign_in().status == 200
        return caller

    def start(self) -> None:
        """Start it and wait until it is well."""
        log = (self.data / "serve.log").open("ab")
        command = [sys.executable, "manage.py", "serve", "--port", str(self.port)]
        self.serve = subprocess.Popen(command, cwd=SERVER, env=self.environment, stdout=log, stderr=log)
        log.close()
        self.wait(self.is_well, 90)

    def is_well(self) -> bool:
        try:
            return Caller(self.port, 5).ask("GET", "/api/health").status == 200
        except (OSError, http.client.HTTPException):
            return False

    def stop(self) -> None:
        if self.serve is not None and self.serve.poll() is None:
            self.serve.terminate()
            self.serve.wait(30)

    def wait(self, condition: Callable[[], Any], seconds: float = 120) -> Any:
        until = time.monotonic() + seconds
        while time.monotonic() < until:
            answer = condition()
            if answer:
                return answer
            time.sleep(0.05)
        raise AssertionError(f"{condition} did not come true in {seconds} s; see {self.data / 'serve.log'}")

    def pids(self, role: str) -> list[int]:
        """The processes of a role."""
        assert self.serve is not None
        ours = dict(_descendants(self.serve.pid))
        if role == "serve":
            return [self.serve.pid]
        if role == "tree":
            return [self.serve.pid, *ours]
        words = {"worker": b"manage.py\0worker", "live": b"manage.py\0live", "web": b"uvicorn"}
        if role in words:
            return [pid for pid, line in ours.items() if words[role] in line]
        busy = [pid for pid, line in ours.items() if b"forkserver" in line]
        return [pid for pid in busy if _parent(pid) in busy]  # a job's child is the child of the fork server

    def kill(self, role: str) -> int:
        """Kill all processes of a role with the signal that cannot be caught; returns how many there were."""
        pids, below = self.pids(role), self.pids("tree")
        for pid in pids:
            try:
                os.kill(pid, signal.SIGKILL)
            except ProcessLookupError:
                continue
        if role in ("serve", "tree"):
            self.serve.wait(20)
            self.wait(lambda: not any(map(is_alive, below)), 5)  # they end with it
        return len(pids)

    def rows(self, query: str, *values: Any) -> list[tuple[Any, ...]]:
        """Rows of the database, read beside the installation; on a full disk as soon as it can be."""

        def read() -> tuple[list[tuple[Any, ...]]] | None:
            address = f"file:{self.data / 'lucid-relic.sqlite3'}?mode=ro"
            try:
                with closing(sqlite3.connect(address, uri=True, timeout=20)) as database:
                    return (database.execute(query, values).fetchall(),)
            except sqlite3.OperationalError as error:
                if "I/O" not in str(error):
                    raise
                return None

        return self.wait(read, 30)[0]

    def job(self, job_id: str) -> dict[str, Any]:
        names = "state", "message", "error", "kind", "attempts"
        (row,) = self.rows(f"SELECT {', '.join(names)} FROM jobs_job WHERE id = ?", uuid.UUID(job_id).hex)
        return dict(zip(names, row, strict=True))

    def ended(self, job_id: str, seconds: float = 240) -> dict[str, Any]:
        """How a job ended, when it has."""
        return self.wait(lambda: (row := self.job(job_id))["state"] in ENDED and row, seconds)

    def faults(self, history_kept: bool = True) -> list[str]:
        """What of the promises does not hold of what is stored now; steps that were undone may have been collected."""
        return list(_faults(self, history_kept))


def _faults(it: Installation, history_kept: bool) -> Iterator[str]:
    if it.rows("PRAGMA integrity_check") != [("ok",)]:
        yield "the database is damaged"
    for kind, state, message, error in it.rows("SELECT kind, state, message, error FROM jobs_job"):
        if state in ENDED and not (message and (error or state != "failed")):
            yield f"a {kind} ended {state} without words"
    steps = dict(it.rows("SELECT job, count(*) FROM objects_step WHERE job IS NOT NULL GROUP BY job"))
    for job, kind, state, payload in it.rows("SELECT id, kind, state, payload FROM jobs_job"):
        wanted = len(json.loads(payload)["steps"]) if kind in ("recipe", "operation") else 1
        if steps.get(job, 0) > wanted:
            yield f"a {kind} has {steps[job]} steps for {wanted}"
        if history_kept and state == "done" and steps.get(job, 0) != wanted:
            yield f"a {kind} that is done has {steps.get(job, 0)} steps for {wanted}"
    for (manifest,) in it.rows("SELECT manifest FROM objects_snapshot"):
        for capture in {p["capture"] for p in json.loads(manifest)["passes"]}:
            if not (it.data / "captures" / capture / "capture.json").is_file():
                yield f"a snapshot names the capture {capture}, whose folder is gone"
        for name in _names(json.loads(manifest)):
            if not (it.data / "store" / name[:2] / f"{name}.npy").is_file():
                yield f"a snapshot names the array {name}, which is gone"
    passes: dict[str, int] = {}
    for (manifest,) in it.rows(
        "SELECT s.manifest FROM objects_snapshot s JOIN objects_scanobject o ON o.head_id = s.id"
    ):
        for entry in json.loads(manifest)["passes"]:
            passes[entry["capture"]] = passes.get(entry["capture"], 0) + 1
    yield from (f"the capture {key} is {n} passes" for key, n in passes.items() if n > 1)
    for (key,) in it.rows("SELECT id FROM objects_capture WHERE state = 'complete'"):
        folder = it.data / "captures" / str(uuid.UUID(key))
        frames = len(json.loads((folder / "capture.json").read_bytes())["frames"])
        images = len(list((folder / "depth").iterdir()))
        if frames != images:
            yield f"the capture {key} names {frames} frames and has {images}"


def _names(value: Any) -> set[str]:
    if isinstance(value, str):
        return {value} if len(value) == 40 and set(value) <= set("0123456789abcdef") else set()
    inside = value.values() if isinstance(value, dict) else value if isinstance(value, list) else ()
    return set().union(*map(_names, inside))


def is_alive(pid: int) -> bool:
    """Whether a process runs; one that ended and was not waited for does not."""
    return _stat(pid)[0] not in ("", "Z")


def _parent(pid: int) -> int:
    return int(_stat(pid)[1])


def _stat(pid: int) -> tuple[str, str]:
    """State and parent of a process (proc(5)); nothing when it is gone."""
    try:
        state, parent = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[:2]
    except OSError:
        return "", "0"
    return state, parent


def _descendants(root: int) -> Iterator[tuple[int, bytes]]:
    parents = {int(p.name): _parent(int(p.name)) for p in Path("/proc").iterdir() if p.name.isdigit()}
    level = {root}
    while level:
        level = {pid for pid, parent in parents.items() if parent in level}
        for pid in level:
            try:
                yield pid, Path(f"/proc/{pid}/cmdline").read_bytes()
            except OSError:
                continue


class Attack:
    """Work on an installation with kills at random moments; afterwards all must be there once and told in words."""

    def __init__(self, it: Installation, caller: Caller, zipped: bytes, seed: int) -> None:
        self.it, self.caller, self.zipped = it, caller, zipped
        self.random = random.Random(seed)
        self.object_id = caller.ask("POST", "/api/objects", {"title": "Keel bolt"}).json()["id"]
        first = caller.send_zip(self.object_id, zipped).json()["id"]
        assert it.ended(first)["state"] == "done"
        self.told: dict[str, int] = {}

    def begin(self, kind: str) -> str:
        """Start a capture, an import or a recipe; returns the job's id."""
        path = f"/api/objects/{self.object_id}"
        if kind == "capture":
            answer = self.caller.ask("POST", f"{path}/captures", {"title": "upright", "stops": 4, "model": "tile"})
        elif kind == "import":
            answer = self.caller.send_zip(self.object_id, self.zipped)
        else:
            chosen = {"fuse": {"voxel_mm": 2.0}, "simplify": {"triangles": 2000}}
            answer = self.caller.ask("POST", f"{path}/runs", {"recipe": "cad", "parameters": chosen})
        assert answer.status == 201, answer.body
        return answer.json()["id"]

    def strike(self, kind: str, role: str, seconds: float) -> dict[str, Any]:
        """One job, one kill so long after its start; returns how the job ended."""
        job_id = self.begin(kind)
        time.sleep(seconds)
        hit = self.it.kill(role)
        self.told[role] = self.told.get(role, 0) + bool(hit)
        if role in ("serve", "tree"):
            self.it.start()
        ended = self.it.ended(job_id)
        if ended["state"] != "done":
            self.it.wait(self.it.is_well, 90)
            assert self.caller.ask("POST", f"/api/jobs/{job_id}/again").status == 200, ended
            ended = self.it.ended(job_id)
        self.it.wait(self.it.is_well, 90)
        return ended

    def tidy(self) -> None:
        """Undo all but the first pass, so that every round works on as much."""
        path = f"/api/objects/{self.object_id}"
        while len(self.caller.ask("GET", path).json()["passes"]) > 1 or self.caller.ask("GET", path).json()["fused"]:
            self.caller.ask("POST", f"{path}/undo")
