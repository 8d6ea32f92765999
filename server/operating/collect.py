"""Giving room back: what no kept history names goes, and what nobody will ask for again.

Mark and sweep, safe beside jobs and kills: arrays are swept while nobody is between storing and naming them, and a
kill in the middle leaves only less to do for the next time.
"""

import contextlib
import shutil
import time
from collections.abc import Callable, Iterator
from datetime import timedelta
from pathlib import Path
from typing import Any

from axes.models import AccessAttempt, AccessFailureLog, AccessLog
from django.conf import settings
from django.contrib.sessions.backends.db import SessionStore
from django.db import transaction
from django.utils import timezone
from django_tasks_db.models import DBTaskResult

from jobs.models import Job
from jobs.services import can_run_again
from objects import actions, core_door
from objects.models import Capture, ScanObject, Snapshot, Step, Upload
from objects.selectors import current_steps, path_to

YOUNG_SECONDS = 3600  # below which a file may belong to something that just begins
UPLOAD_HOURS = 24  # that an upload which broke off is kept for
TASK_DAYS, SIGN_IN_DAYS, JOB_DAYS = 1, 30, 90


def collect() -> dict[str, int]:
    """Everything once; returns what was given back: branches in snapshots, the rest in bytes, rows of logs in rows."""
    return {name: work() for name, work in WORK.items()}


def thrown_away() -> int:
    """Delete objects for good that were thrown away longer ago than their grace; returns how many."""
    cutoff = timezone.now() - timedelta(days=settings.KEEP_DELETED_DAYS)
    old = [o for o in ScanObject.objects.filter(deleted__lt=cutoff) if not o.jobs.under_way().exists()]
    for scan_object in old:
        actions.delete_for_good(scan_object)
    return len(old)


def undone_branches() -> int:
    """Delete snapshots of steps that were taken back longer ago than one keeps them; returns how many."""
    cutoff = timezone.now() - timedelta(days=settings.KEEP_UNDONE_DAYS)
    return sum(_cut_branches(o.pk, cutoff) for o in ScanObject.objects.only("pk"))


def _cut_branches(object_id: Any, cutoff: Any) -> int:
    with transaction.atomic():
        scan_object = ScanObject.objects.filter(pk=object_id).first()
        if scan_object is None or scan_object.jobs.under_way().exists():
            return 0
        steps = list(scan_object.steps.all())
        before = {s.after_id: s.before_id for s in steps}
        kept = {s.after_id for s in current_steps(scan_object)[0]}
        left = [s for s in steps if s.after_id not in kept]
        # Steps left before this was written down count from now.
        Step.objects.filter(pk__in=[s.pk for s in left if s.undone is None]).update(undone=timezone.now())
        for at in [s.after_id for s in left if s.undone is None or s.undone > cutoff]:
            while at is not None and at not in kept:
                kept.add(at)
                at = before.get(at)
        for tip in scan_object.branches.filter(kept=True).values_list("tip_id", flat=True):
            kept |= {s.after_id for s in path_to(tip, {s.after_id: s for s in steps})}
        old = scan_object.snapshots.filter(created__lt=cutoff).exclude(pk__in=kept)
        count = old.count()
        old.delete()
    return count


def arrays() -> int:
    """Delete stored arrays that no snapshot names."""
    with core_door.storing(alone=True):
        named: set[str] = set()
        for manifest in Snapshot.objects.values_list("manifest", flat=True).iterator(chunk_size=50):
            named |= core_door.stored_names(manifest)
        files = (settings.DATA / "store").glob("*/*")
        return _swept(p for p in files if p.stem not in named and (p.suffix == ".npy" or _is_old(p)))


def cache() -> int:
    """Delete what was asked for longest ago until the cache is within its cap."""
    folder = settings.DATA / "cache"
    freed = _swept(p for p in folder.glob(".making-*") if _is_old(p))
    with_times = sorted(_facts(p for p in folder.glob("*") if p.is_file()))
    over = sum(size for _, size, _ in with_times) - settings.CACHE_BYTES
    for _, size, path in with_times:
        if over <= 0:
            break
        over -= size
        freed += _swept([path])
    return freed


def captures() -> int:
    """Delete folders of captures that no row names, and what attempts left that nobody goes on with."""
    folders = [p for p in (settings.DATA / "captures").glob("*") if _is_old(p)]
    cutoff = timezone.now() - timedelta(days=settings.KEEP_UNDONE_DAYS)
    # In this order: what is old has a job under way, or one that ended before its snapshot is looked for.
    old = list(Capture.objects.filter(created__lt=cutoff))
    waiting = {job.payload.get("capture") for job in Job.objects.under_way()}
    named = _captures_named()
    for capture in old:
        if str(capture.pk) not in waiting | named:
            capture.delete()
    known = {str(pk) for pk in Capture.objects.values_list("pk", flat=True)} | waiting
    return _swept(p for p in folders if core_door.capture_key(p) not in known)


def _captures_named() -> set[str]:
    """Captures that a kept snapshot names: all the rest were broken off, or belonged to a branch that was collected."""
    manifests = Snapshot.objects.values_list("manifest", flat=True).iterator(chunk_size=50)
    return {entry["capture"] for manifest in manifests for entry in manifest["passes"]}


def uploads() -> int:
    """Delete uploaded files that no job needs and to which nothing has come for a day, and what is known of them."""
    cutoff = timezone.now() - timedelta(hours=UPLOAD_HOURS)
    imports = Job.objects.filter(kind="import")
    wanted = (j for j in imports if j.state not in Job.ENDED or can_run_again(j))
    needed = {file["upload"] for j in wanted for file in j.payload.get("files", [])}
    left = [p for p in (settings.DATA / "uploads").glob("*") if p.stat().st_mtime < cutoff.timestamp()]
    freed = _swept(p for p in left if str(p) not in needed)
    for upload in Upload.objects.filter(created__lt=cutoff):
        if not (settings.DATA / "uploads" / str(upload.pk)).exists():
            upload.delete()
    return freed


def logs() -> int:
    """Delete old rows: results of the task queue, attempts to sign in, sessions that expired, jobs long ended."""
    now = timezone.now()
    SessionStore.clear_expired()
    old = [
        DBTaskResult.objects.filter(enqueued_at__lt=now - timedelta(days=TASK_DAYS)),
        *(m.objects.filter(attempt_time__lt=now - timedelta(days=SIGN_IN_DAYS))
          for m in (AccessAttempt, AccessLog, AccessFailureLog)),
        Job.objects.filter(state__in=Job.ENDED, finished__lt=now - timedelta(days=JOB_DAYS)),
    ]  # fmt: skip
    return sum(rows.delete()[0] for rows in old)


WORK: dict[str, Callable[[], int]] = {
    "thrown away": thrown_away, "undone branches": undone_branches, "arrays": arrays, "cache": cache, "captures": captures, "uploads": uploads,
    "logs": logs,
}  # fmt: skip


def measure_rooms(since: Any) -> Any:
    """Measure what objects take that changed since then; returns the time up to which all are measured."""
    now = timezone.now()
    for scan_object in ScanObject.objects.filter(changed__gte=since).exclude(jobs__state__in=("queued", "running")):
        room = sum(_size(core_door.capture_path(str(c))) for c in scan_object.captures.values_list("pk", flat=True))
        named: set[str] = set()
        for manifest in scan_object.snapshots.values_list("manifest", flat=True).iterator(chunk_size=50):
            named |= core_door.stored_names(manifest)
        store = core_door.store()
        room += sum(_size(store.path(name)) for name in named)
        ScanObject.objects.filter(pk=scan_object.pk).update(room_bytes=room)
    busy = ScanObject.objects.filter(changed__gte=since, jobs__state__in=("queued", "running"))
    return min([now, *busy.values_list("changed", flat=True)])


def _is_old(path: Path) -> bool:
    with contextlib.suppress(FileNotFoundError):
        return time.time() - path.stat().st_mtime > YOUNG_SECONDS
    return False


def _facts(paths: Iterator[Path]) -> Iterator[tuple[float, int, Path]]:
    for path in paths:
        with contextlib.suppress(FileNotFoundError):
            facts = path.stat()
            yield facts.st_mtime, facts.st_size, path


def _size(path: Path) -> int:
    files = path.rglob("*") if path.is_dir() else [path]
    return sum(size for _, size, found in _facts(iter(files)) if not found.is_dir())


def _swept(paths: Any) -> int:
    freed = 0
    for path in paths:
        freed += _size(path)
        if path.is_dir():
            shutil.rmtree(path, ignore_errors=True)
        else:
            path.unlink(missing_ok=True)
    return freed
