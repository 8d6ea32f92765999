"""What an installation must stand: each ordeal does its worst and returns figures; what does not hold raises.

The tests run them short, `benchmarks/reliability.py` runs them long.
"""

import concurrent.futures
import contextlib
import http.client
import random
import shutil
import statistics
import threading
import time
from pathlib import Path
from typing import Any

from installation import ROLES, Attack, Caller, Installation

KINDS = ("capture", "import", "recipe")
DOWNLOADS = ("stl", "ply", "obj", "glb", "3mf")


def kills(attack: Attack, count: int) -> dict[str, Any]:
    """Kills at random moments of jobs of every kind, of every process in turn: all is there once, told in words."""
    source = attack.random
    attempts: list[int] = []
    by_role: dict[str, int] = dict.fromkeys(ROLES, 0)
    for number in range(count):
        role, kind = ROLES[number % len(ROLES)], source.choice(KINDS)
        ended = attack.strike(kind, role, source.uniform(0.05, 4.5))
        assert ended["state"] == "done", (number, kind, role, ended)
        faults = attack.it.faults()
        assert not faults, (number, kind, role, faults)
        attempts.append(ended["attempts"])
        by_role[role] += 1
        attack.tidy()
    again = sum(a > 1 for a in attempts)
    return {"kills": count, "again": again, "roles": by_role, "hit": attack.told}


def downloads(attack: Attack, count: int, at_once: int = 20) -> dict[str, Any]:
    """Downloads of all formats at once, on a cache that holds none of them: all whole, all alike."""
    assert attack.it.ended(attack.begin("recipe"))["state"] == "done"
    path = f"/api/objects/{attack.object_id}/download/"

    def fetch(kind: str) -> tuple[str, int, bytes]:
        caller = Caller(attack.it.port)
        caller.cookies = dict(attack.caller.cookies)
        answer = caller.ask("GET", path + kind)
        assert int(answer.headers["content-length"]) == len(answer.body)
        return kind, answer.status, answer.body

    with concurrent.futures.ThreadPoolExecutor(at_once) as pool:
        came = list(pool.map(fetch, [DOWNLOADS[n % len(DOWNLOADS)] for n in range(count)]))
    assert {status for _, status, _ in came} == {200}
    assert len({(kind, hash(body)) for kind, _, body in came}) == len(DOWNLOADS)
    attack.tidy()
    return {"downloads": count, "megabytes": round(sum(len(body) for _, _, body in came) / 1e6)}


def collection(attack: Attack, rounds: int) -> dict[str, Any]:
    """Jobs that store while `collect` runs over and over, and is killed at times: nothing that is named is lost."""
    it, stop = attack.it, threading.Event()
    runs = kills_ = 0
    freed_before = _store_bytes(it)

    def sweep() -> None:
        nonlocal runs, kills_
        source = random.Random(5)
        while not stop.is_set():
            limit = source.uniform(0.3, 6)
            try:
                it.manage("collect", settings={"LUCID_RELIC_KEEP_UNDONE_DAYS": "0"}, timeout=limit)
                runs += 1
            except Exception:  # killed in the middle
                kills_ += 1

    sweeper = threading.Thread(target=sweep)
    sweeper.start()
    try:
        for number in range(rounds):
            ended = it.ended(attack.begin(KINDS[number % len(KINDS)]))
            assert ended["state"] == "done", ended
            # A snapshot may be collected between its row and its arrays being looked at: what is lost is so at both looks.
            faults = set(it.faults(history_kept=False)) & set(it.faults(history_kept=False))
            assert not faults, faults
            attack.tidy()
    finally:
        stop.set()
        sweeper.join()
    it.manage("collect", settings={"LUCID_RELIC_KEEP_UNDONE_DAYS": "0"})
    assert not it.faults(history_kept=False)
    return {"jobs": rounds, "collections": runs, "killed": kills_, "before": freed_before, "after": _store_bytes(it)}


def _store_bytes(it: Installation) -> int:
    return sum(p.stat().st_size for p in it.data.glob("store/*/*") if p.exists())


def backup(attack: Attack, folder: Path, backups: int = 2) -> dict[str, Any]:
    """Backups while jobs run, the last one restored and started: it holds everything it names, and works."""
    it = attack.it
    made: list[Path] = []
    running = attack.begin("recipe")
    for number in range(backups):
        target = folder / f"backup-{number}"
        earlier = ["--earlier", str(made[-1])] if made else []
        done = it.manage("backup", str(target), *earlier)
        assert done.returncode == 0, done.stderr
        made.append(target)
        running = running if number == 0 else attack.begin("import")
        assert it.ended(running)["state"] == "done"
    restored = Installation(folder / "restored")
    restored.data.mkdir()
    answer = it.manage("restore", str(made[-1]), settings={"LUCID_RELIC_DATA": str(restored.data)})
    assert answer.returncode == 0, answer.stderr
    assert restored.faults() == []
    restored.start()
    try:
        caller = Caller(restored.port)
        assert caller.sign_in().status == 200
        bench = caller.ask("GET", f"/api/objects/{attack.object_id}").json()
        frame = caller.ask("GET", f"/api/captures/{bench['passes'][0]['capture']}/frames/0/points")
        assert frame.status == 200 and len(frame.body) > 1000
        again = caller.ask("POST", f"/api/objects/{attack.object_id}/runs", {"operation": "place_frames"}).json()["id"]
        assert restored.ended(again)["state"] == "done"
    finally:
        restored.stop()
    attack.tidy()
    shared = sum(p.stat().st_nlink > 1 for p in made[-1].rglob("*.npy"))
    return {"backups": backups, "files": sum(p.is_file() for p in made[-1].rglob("*")), "shared": shared}


def full_disk(it: Installation, attack: Attack, reserve: int) -> dict[str, Any]:
    """The disk filled to the last byte during jobs: they stop in words, looking and signing in work, then all goes on."""
    filler = it.data / "filler"
    ends = []
    for kind in KINDS:
        job_id = attack.begin(kind)
        time.sleep(1.0)
        _fill(filler)
        stopped = it.ended(job_id, 60)
        assert stopped["state"] != "failed" or "full" in stopped["error"], stopped
        guest = Caller(it.port)
        assert guest.sign_in().status == 200
        assert guest.ask("GET", "/api/objects").status == guest.ask("GET", "/").status == 200
        refused = attack.caller.ask("POST", f"/api/objects/{attack.object_id}/runs", {"recipe": "cad"})
        assert refused.status == 507 and "full" in refused.json()["error"], refused.body
        assert attack.caller.send_zip(attack.object_id, attack.zipped).status == 507
        assert it.faults() == []
        filler.unlink()
        it.wait(lambda: shutil.disk_usage(it.data).free > reserve)
        if stopped["state"] != "done":
            it.wait(lambda: attack.caller.ask("POST", f"/api/jobs/{job_id}/again").status == 200, 20)  # noqa: B023
            assert it.ended(job_id)["state"] == "done"
        ends.append(stopped["state"])
        attack.tidy()
    return {"jobs": len(ends), "stopped": sum(e == "failed" for e in ends)}


def _fill(path: Path) -> None:
    for size in (1 << 20, 1 << 12, 1):
        with contextlib.suppress(OSError), path.open("ab", buffering=0) as out:
            while True:
                out.write(b"\0" * size)


def load(it: Installation, attack: Attack, clients: int, seconds: float) -> dict[str, Any]:
    """Clients that look at everything, each with a stream of events, beside a running recipe."""
    bench = f"/api/objects/{attack.object_id}"
    shown = attack.caller.ask("GET", bench).json()
    addresses = ["/api/objects", bench, "/api/jobs", "/api/session", bench, "/api/catalogue"]
    files = [f"/api/snapshots/{shown['snapshot']}/passes/0", f"{bench}/picture",
             f"/api/captures/{shown['passes'][0]['capture']}/frames/0/points",
             f"/api/captures/{shown['passes'][0]['capture']}/frames/1/colour"]  # fmt: skip
    times: list[float] = []
    statuses: set[int] = set()
    until = time.monotonic() + seconds

    def look(number: int) -> None:
        source = random.Random(number)
        caller = Caller(it.port)
        caller.cookies = dict(attack.caller.cookies)
        while time.monotonic() < until:
            address = source.choice(addresses)
            began = time.monotonic()
            statuses.add(caller.ask("GET", address).status)
            times.append(time.monotonic() - began)
            if source.random() < 0.2:
                statuses.add(caller.ask("GET", source.choice(files)).status)
            time.sleep(source.uniform(0.2, 1.0))

    job_id = attack.begin("recipe")
    peak = 0
    with concurrent.futures.ThreadPoolExecutor(2 * clients) as pool:
        streams = [pool.submit(_listen, it, attack, until) for _ in range(clients)]
        lookers = [pool.submit(look, n) for n in range(clients)]
        while time.monotonic() < until:
            peak = max(peak, *(_resident(pid) for pid in it.pids("web")))
            if it.job(job_id)["state"] == "done":
                attack.tidy()
                job_id = attack.begin("recipe")
            time.sleep(0.3)
        for each in (*lookers, *streams):
            each.result()
    it.ended(job_id)
    attack.tidy()
    assert statuses == {200}, statuses
    ordered = sorted(times)
    return {
        "calls": len(ordered), "p50_ms": round(1e3 * statistics.median(ordered)),
        "p95_ms": round(1e3 * ordered[int(0.95 * len(ordered))]), "web_mb": round(peak / 1e6),
    }  # fmt: skip


def _listen(it: Installation, attack: Attack, until: float) -> None:
    link = http.client.HTTPConnection("127.0.0.1", it.port, timeout=30)
    cookie = "; ".join(f"{k}={v}" for k, v in attack.caller.cookies.items())
    link.request("GET", "/api/events", headers={"Cookie": cookie})
    response = link.getresponse()
    while time.monotonic() < until:
        response.read1(4096)
    link.close()


def _resident(pid: int) -> int:
    try:
        return int(Path(f"/proc/{pid}/statm").read_text().split()[1]) * 4096
    except OSError:
        return 0
