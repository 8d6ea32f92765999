"""Files that come in piece by piece, so that what broke off goes on where it was."""

import fcntl
import os
import shutil
from pathlib import Path
from typing import Any, BinaryIO

from django.conf import settings
from django.db import transaction
from django.http import Http404

from objects import core_door, quota, room
from objects.actions.guard import asked_to_work
from objects.errors import WrongPlace
from objects.models import ScanObject, Upload

CHUNK = 1 << 20
MOST_WAITING = 200  # uploads of one object that nothing was made of yet


def upload_path(upload: Upload) -> Path:
    """Where what has come of a file lies."""
    return settings.DATA / "uploads" / str(upload.pk)


def received_bytes(upload: Upload) -> int:
    """How much of a file has come."""
    path = upload_path(upload)
    return path.stat().st_size if path.exists() else 0


def begin_upload(object_id: Any, who: Any, name: str, size: int, stamp: str = "") -> Upload:
    """A place for a file of that name, size and stamp; the same one again when it was begun before and broke off.

    Raises `InputError` for a file that is too large, `NoRoom` or `OverQuota` when there is no room for it.
    """
    if size > settings.MAX_UPLOAD_BYTES:
        raise core_door.InputError(f"{name}: more than {settings.MAX_UPLOAD_BYTES / 1e9:.0f} GB.")
    with transaction.atomic():
        scan_object = asked_to_work(object_id, who)
        room.need(2 * size)
        quota.need(scan_object.owner, size)
        begun = scan_object.uploads.filter(who=who, name=name, bytes=size, stamp=stamp).first()
        if begun is not None:
            return begun
        if scan_object.uploads.count() >= MOST_WAITING:
            raise core_door.InputError(f"{name}: {MOST_WAITING} files wait already; take them in or drop them first.")
        return Upload.objects.create(scan_object=scan_object, who=who, name=name, bytes=size, stamp=stamp)


def own_upload(upload_id: Any, who: Any) -> Upload:
    """A person's own upload; raises `Http404` when there is none."""
    upload = Upload.objects.filter(pk=upload_id, who_id=who.pk).first()
    if upload is None:
        raise Http404
    return upload


def take_piece(upload: Upload, at: int, stream: BinaryIO) -> int:
    """Write what comes behind what is there; returns how much there is then.

    Raises `WrongPlace` when the piece does not begin where what is there ends, `InputError` when more comes than was said.
    """
    with upload_path(upload).open("ab") as out:
        fcntl.flock(out, fcntl.LOCK_EX)
        there = os.fstat(out.fileno()).st_size
        if at != there:
            raise WrongPlace(f"{upload.name}: {there} bytes are here; send what follows them.")
        while chunk := stream.read(CHUNK):
            there += len(chunk)
            if there > upload.bytes:
                out.truncate(at)
                raise core_door.InputError(f"{upload.name}: more came than the {upload.bytes:,} bytes that were said.")
            room.need()
            out.write(chunk)
    return there


def drop_upload(upload: Upload) -> None:
    """Forget a file and what has come of it."""
    path = upload_path(upload)
    upload.delete()
    delete_upload(path)


def whole_uploads(scan_object: ScanObject, who: Any, ids: list[Any]) -> list[Upload]:
    """A person's uploads for an object, in their order; raises `InputError` for one that is not there or not whole."""
    found = scan_object.uploads.filter(who_id=who.pk).in_bulk(ids)
    for wanted in ids:
        if wanted not in found:
            raise core_door.InputError("One of the files is not here any more: send it once more.")
        upload = found[wanted]
        if received_bytes(upload) != upload.bytes:
            raise core_door.InputError(
                f"{upload.name}: only {received_bytes(upload):,} of {upload.bytes:,} bytes came."
            )
    return [found[wanted] for wanted in ids]


def delete_upload(path: Path) -> None:
    """Remove an uploaded file or a folder left by one, and what is known of it."""
    Upload.objects.filter(pk__in=[path.name] if _is_id(path.name) else []).delete()
    if path.is_dir():
        shutil.rmtree(path, ignore_errors=True)
    else:
        path.unlink(missing_ok=True)


def _is_id(name: str) -> bool:
    return len(name) == 36 and name.count("-") == 4
