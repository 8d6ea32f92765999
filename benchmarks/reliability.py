"""The long runs behind docs/reliability.md: `python benchmarks/reliability.py [promise…]`, all of them by default.

Each writes the figure of its run into its row of the table.
"""

import os
import random
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from contextlib import contextmanager
from datetime import date
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(ROOT / "tests"), str(ROOT / "server")]

import ordeals  # noqa: E402
from hostile import mutated, read_hostile, seeds  # noqa: E402
from installation import Attack, Installation  # noqa: E402

TABLE = ROOT / "docs" / "reliability.md"
KILLS, DOWNLOADS, FILES, COLLECTED, CLIENTS, LOAD_SECONDS = 200, 1000, 20_000, 24, 30, 60
MB = 2**20


@contextmanager
def attacked(data: Path | None = None, **settings: str):
    """An installation with one object, and who attacks it."""
    from scenes import two_passes

    it = Installation(data or Path(tempfile.mkdtemp(prefix="lucid-relic-ordeal-")), **settings)
    source = Path(tempfile.mkdtemp())
    folder = two_passes(source)[0]
    zipped = Path(shutil.make_archive(str(source / "upright"), "zip", folder)).read_bytes()
    try:
        yield Attack(it, it.found(), zipped, seed=int(time.time()))
    finally:
        it.stop()


def kills() -> str:
    with attacked() as attack:
        f = ordeals.kills(attack, KILLS)
    roles = ", ".join(f"{n} {role}" for role, n in f["roles"].items())
    return (
        f"{f['kills']} kills ({roles}); {f['again']} jobs needed a further attempt; lost 0, doubled 0, without words 0"
    )


def downloads() -> str:
    with attacked() as attack:
        f = ordeals.downloads(attack, DOWNLOADS)
    return f"{f['downloads']} downloads, 20 at once, {f['megabytes']} MB: all whole, each format always the same bytes"


def files() -> str:
    folder = Path(tempfile.mkdtemp())
    good = seeds(folder)
    names, refused, slowest = sorted(good), 0, 0.0
    first = random.SystemRandom().randrange(2**40)
    for seed in range(first, first + FILES):
        began = time.monotonic()
        name = names[seed % len(names)]
        refused += read_hostile(name, mutated(good[name], random.Random(seed)), folder) is not None
        slowest = max(slowest, time.monotonic() - began)
    return f"{FILES:,} files of {len(names)} kinds (seeds from {first}): {refused:,} refused, 0 exceptions, slowest {slowest:.2f} s"


def disk() -> str:
    mount = Path(tempfile.mkdtemp(prefix="lucid-relic-disk-"))
    subprocess.run(["mount", "-t", "tmpfs", "-o", "size=400m", "tmpfs", str(mount)], check=True)
    try:
        room = {"LUCID_RELIC_RESERVE_MB": "60", "LUCID_RELIC_BALLAST_MB": "8"}
        with attacked(mount, LUCID_RELIC_CACHE=str(ROOT / "data/cache/models"), **room) as attack:
            f = ordeals.full_disk(attack.it, attack, 140 * MB)
    finally:
        subprocess.run(["umount", "-l", str(mount)], check=False)
    return f"{f['jobs']} jobs on a disk filled to the last byte: {f['stopped']} stopped in words, all done once there was room"


def backup() -> str:
    with attacked() as attack:
        f = ordeals.backup(attack, Path(tempfile.mkdtemp(prefix="lucid-relic-backups-")), 3)
    return f"{f['backups']} backups beside running jobs; the last restored, started and worked on: {f['files']} files, {f['shared']} arrays shared with the one before"


def collection() -> str:
    with attacked() as attack:
        f = ordeals.collection(attack, COLLECTED)
    return (
        f"{f['jobs']} jobs beside {f['collections']} collections and {f['killed']} killed ones: nothing named was lost; "
        f"the store went from {f['before'] / 1e6:.0f} to {f['after'] / 1e6:.0f} MB"
    )


def load() -> str:
    with attacked() as attack:
        f = ordeals.load(attack.it, attack, CLIENTS, LOAD_SECONDS)
    return f"{CLIENTS} clients with {CLIENTS} streams, {f['calls']} JSON calls beside a recipe: p50 {f['p50_ms']} ms, p95 {f['p95_ms']} ms, each of the two web processes at most {f['web_mb']} MB"


def shelf() -> str:
    """In a process of its own, since it takes the settings of one installation."""
    code = (
        "import django, time; django.setup()\n"
        "from django.core.management import call_command; call_command('migrate', verbosity=0)\n"
        "from django.contrib.auth import get_user_model; from django.test import Client; from crowd import crowd\n"
        "user = get_user_model().objects.create_user('mira'); crowd(user, 500, 12); client = Client()\n"
        "client.force_login(user, backend='django.contrib.auth.backends.ModelBackend'); times = []\n"
        "for _ in range(9):\n"
        "    began = time.perf_counter(); answer = client.get('/api/objects'); times.append(time.perf_counter() - began)\n"
        "assert len(answer.json()) == 500; print(sorted(times)[4])\n"
    )
    environment = {**os.environ, "DJANGO_SETTINGS_MODULE": "config.settings", "LUCID_RELIC_DATA": tempfile.mkdtemp(),
                   "PYTHONPATH": f"{ROOT / 'server'}:{ROOT / 'tests'}"}  # fmt: skip
    told = subprocess.run([sys.executable, "-c", code], env=environment, capture_output=True, text=True, check=True)
    return f"500 objects of 12 steps in {float(told.stdout):.2f} s, median of nine"


PROMISES: dict[str, Callable[[], str]] = {
    "files": files, "downloads": downloads, "disk": disk, "backup": backup, "collection": collection, "load": load, "shelf": shelf,
    "kills": kills,
}  # fmt: skip


def write(promise: str, figure: str) -> None:
    """Put a figure into the row that ends with the promise's mark."""
    lines = TABLE.read_text().split("\n")
    mark = f"<!-- {promise} -->"
    for number, line in enumerate(lines):
        if mark in line:
            cells = line.split("|")
            cells[-2] = f" {figure} ({date.today():%d %B %Y}) {mark} "
            lines[number] = "|".join(cells)
    TABLE.write_text("\n".join(lines))


if __name__ == "__main__":
    os.environ.setdefault("LUCID_RELIC_CACHE", str(ROOT / "data/cache/models"))
    for chosen in sys.argv[1:] or PROMISES:
        told = PROMISES[chosen]()
        print(f"{chosen}: {told}", flush=True)
        write(chosen, told)
