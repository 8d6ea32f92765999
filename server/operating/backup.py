"""Backups that are consistent while the installation runs, and going back to one.

The database is copied first, by SQLite's own online backup. All it names is immutable and is held back from the
collection until the copy is done; a file that lies in an earlier backup already is linked, not copied.
"""

import json
import os
import shutil
import sqlite3
import uuid
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

from django.conf import settings
from django.db import connection
from django.utils import timezone

from objects import core_door

DATABASE = "lucid-relic.sqlite3"
FACTS = "backup.json"
SECRET = "secret.key"
Tell = Callable[[float, str], None]


class BackupError(Exception):
    """Why a backup cannot be made or gone back to."""


def back_up(target: Path, tell: Tell, earlier: Path | None = None) -> dict[str, Any]:
    """Write a whole backup into a new folder; returns its facts. Nothing is left behind when it fails."""
    if target.exists():
        raise BackupError(f"{target} exists already; a backup goes into a new folder.")
    draft = target.with_name(f".{target.name}.part")
    shutil.rmtree(draft, ignore_errors=True)
    draft.mkdir(parents=True, mode=0o700)
    try:
        with core_door.storing():
            _copy_database(Path(connection.settings_dict["NAME"]), draft / DATABASE)
            files = [*_files_of(draft / DATABASE), *([SECRET] if (settings.DATA / SECRET).exists() else [])]
            size = 0
            for number, name in enumerate(files):
                tell(number / len(files), name)
                size += _keep(settings.DATA / name, draft / name, earlier / name if earlier else None)
        facts = {"made": timezone.now().isoformat(), "files": len(files), "bytes": size}
        (draft / FACTS).write_text(json.dumps(facts, indent=1))
        os.replace(draft, target)
    except BaseException:
        shutil.rmtree(draft, ignore_errors=True)
        raise
    return facts


def restore(source: Path, data: Path, tell: Tell) -> int:
    """Put a backup into an empty data folder after it was seen to be whole; returns the number of files."""
    if not (source / FACTS).is_file():
        raise BackupError(f"{source} is not a whole backup: {FACTS} is missing.")
    if (data / DATABASE).exists():
        raise BackupError(f"{data} holds an installation already; set LUCID_RELIC_DATA to a new folder.")
    files = list(_files_of(source / DATABASE))
    missing = [name for name in files if not (source / name).is_file()]
    if missing:
        raise BackupError(f"{len(missing)} files of this backup are missing, the first is {missing[0]}.")
    files += [SECRET] if (source / SECRET).exists() else []
    for number, name in enumerate(files):
        tell(number / len(files), name)
        _copy(source / name, data / name)
    _copy(source / DATABASE, data / DATABASE)
    return len(files)


def _copy_database(source: Path, target: Path) -> None:
    with sqlite3.connect(f"file:{source}?mode=ro", uri=True) as live, sqlite3.connect(target) as copy:
        live.backup(copy)
        copy.execute("DELETE FROM django_session")
        faults = copy.execute("PRAGMA integrity_check").fetchone()[0]
    live.close()
    copy.close()
    if faults != "ok":
        raise BackupError(f"The copy of the database is damaged: {faults}")


def _files_of(database: Path) -> Iterator[str]:
    """Every file that a database names, relative to the data folder."""
    with sqlite3.connect(f"file:{database}?mode=ro", uri=True) as rows:
        manifests = rows.execute("SELECT manifest FROM objects_snapshot").fetchall()
        keys = rows.execute("SELECT id FROM objects_capture WHERE state = 'complete'").fetchall()
    rows.close()
    names: set[str] = set()
    for (manifest,) in manifests:
        names |= core_door.stored_names(json.loads(manifest))
    yield from sorted(f"store/{name[:2]}/{name}.npy" for name in names)
    roots = (database.parent, settings.DATA)
    for (key,) in sorted(keys):
        folder = f"captures/{uuid.UUID(key)}"
        root = next((r for r in roots if (r / folder).is_dir()), settings.DATA)
        yield from sorted(str(p.relative_to(root)) for p in (root / folder).rglob("*") if p.is_file())


def _keep(source: Path, target: Path, earlier: Path | None) -> int:
    target.parent.mkdir(parents=True, exist_ok=True)
    if earlier is not None and earlier.is_file() and earlier.stat().st_size == source.stat().st_size:
        os.link(earlier, target)
    else:
        _copy(source, target)
    return target.stat().st_size


def _copy(source: Path, target: Path) -> None:
    target.parent.mkdir(parents=True, exist_ok=True)
    shutil.copy2(source, target)
