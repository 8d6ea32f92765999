"""Captures as one .zip: opened, and unpacked all or nothing."""

import errno
import os
import shutil
import stat
import tempfile
import zipfile
from collections.abc import Callable
from pathlib import Path

from lucid_relic.errors import InputError, LucidRelicError, quoted
from lucid_relic.io.capture_folder import MANIFEST_NAME
from lucid_relic.io.manifest import MAX_BYTES, Manifest, parse_manifest
from lucid_relic.progress import Progress, silent

MAX_UNPACKED_BYTES = 8 * 1024**3  # of one capture
MAX_RATIO = 100  # of unpacked to packed: images shrink ten times at the most
RATIO_FREE_BYTES = 20 * 1024**2  # below which the ratio is not asked: empty depth images pack well
MAX_ENTRIES = 60_000  # files in one archive: three for each of the most frames
LOCAL_HEADER = 30  # bytes before the name of an entry (APPNOTE 6.3, 4.3.7)
CHUNK = 1 << 20
DISK_ERRORS = (errno.ENOSPC, errno.EDQUOT, errno.EIO, errno.EROFS)


def unpack_capture(
    archive: str | Path, target: str | Path, progress: Progress = silent, name: str | None = None
) -> Path:
    """Unpack the manifest of a capture .zip and the images it names into `target`, all or nothing; returns `target`.

    Count, size, ratio and overlap of the entries and the whole manifest are checked before anything is written; `name`
    is what the person calls the archive.
    """
    return unpack(archive, target, _wanted, progress, name)


Choose = Callable[[str, zipfile.ZipFile], dict[str, zipfile.ZipInfo]]


def unpack(
    archive: str | Path, target: str | Path, choose: Choose, progress: Progress = silent, name: str | None = None
) -> Path:
    """Unpack the entries that `choose(name, bundle)` gives, by their path in `target`, all or nothing; returns `target`.

    Count, size, ratio and overlap of all entries are checked before that.
    """
    archive, target = Path(archive), Path(target)
    name = name or archive.name
    try:
        with zipfile.ZipFile(archive) as bundle:
            _check_entries(name, bundle, _files(bundle))
            return _extract(name, bundle, choose(name, bundle), target, progress)
    except (LucidRelicError, MemoryError):
        raise
    except Exception as error:  # a damaged archive makes the library raise whatever it likes
        if isinstance(error, OSError) and (error.filename is not None or error.errno in DISK_ERRORS):
            raise  # of writing a file, not of reading the archive
        raise InputError(f"{name}: this is not a .zip file that can be read") from None


def _wanted(name: str, bundle: zipfile.ZipFile) -> dict[str, zipfile.ZipInfo]:
    """The entries to unpack, by their path in the folder: the manifest and what it names."""
    entries = _files(bundle)
    manifests = [e for e in entries if e.filename.split("/")[-1] == MANIFEST_NAME]
    if not manifests:
        raise InputError(f"{name}: there is no {MANIFEST_NAME} inside; this is not a capture")
    root = min(manifests, key=lambda e: len(e.filename))
    prefix = root.filename[: -len(MANIFEST_NAME)]
    with bundle.open(root) as source:
        manifest = parse_manifest(source.read(MAX_BYTES + 1))
    by_name = {e.filename: e for e in entries}
    wanted = {MANIFEST_NAME: root}
    for path in _named(manifest):
        if prefix + path not in by_name:
            raise InputError(f"{name}: the manifest names {quoted(path)} but the file is missing")
        wanted[path] = by_name[prefix + path]
    inside = {parent.as_posix() for path in wanted for parent in Path(path).parents}
    both = sorted(inside & wanted.keys())
    if both:
        raise InputError(f"{name}: {quoted(both[0])} is a file and a folder at once")
    return wanted


def _files(bundle: zipfile.ZipFile) -> list[zipfile.ZipInfo]:
    return [e for e in bundle.infolist() if not e.is_dir()]


def names_inside(archive: str | Path) -> list[str]:
    """The names of the files in a .zip, in its order; raises `InputError` for what is none."""
    try:
        with zipfile.ZipFile(archive) as bundle:
            return [e.filename for e in _files(bundle)]
    except Exception:  # a damaged archive makes the library raise whatever it likes
        raise InputError(f"{Path(archive).name}: this is not a .zip file that can be read") from None


def _named(manifest: Manifest) -> list[str]:
    return [path for frame in manifest.frames for path in (frame.depth, frame.colour) if path is not None]


def _check_entries(name: str, bundle: zipfile.ZipFile, entries: list[zipfile.ZipInfo]) -> None:
    if len(entries) > MAX_ENTRIES:
        raise InputError(f"{name}: {len(entries)} files inside; at most {MAX_ENTRIES} are unpacked")
    for entry in entries:
        parts = entry.filename.replace("\\", "/").split("/")
        if entry.filename.startswith("/") or ".." in parts or ":" in entry.filename:
            raise InputError(
                f"{name}: the entry {quoted(entry.filename)} points outside the folder; nothing was unpacked"
            )
        if stat.S_ISLNK(entry.external_attr >> 16):
            raise InputError(f"{name}: the entry {quoted(entry.filename)} is a link; nothing was unpacked")
    size = sum(e.file_size for e in entries)
    packed = max(sum(e.compress_size for e in entries), 1)
    if size > MAX_UNPACKED_BYTES or (size > RATIO_FREE_BYTES and size / packed > MAX_RATIO):
        raise InputError(
            f"{name}: would unpack to {size / 1e9:.1f} GB from {packed / 1e6:.1f} MB, "
            "far more than images shrink; nothing was unpacked"
        )
    last_end = 0
    for entry in sorted(entries, key=lambda e: e.header_offset):
        if entry.header_offset < last_end:
            raise InputError(f"{name}: entries lie on top of each other; nothing was unpacked")
        last_end = entry.header_offset + LOCAL_HEADER + entry.compress_size


def zip_folder(folder: Path, target: Path) -> None:
    """A folder's files as a .zip, as they are: images do not shrink any more."""
    with zipfile.ZipFile(target, "w", zipfile.ZIP_STORED) as bundle:
        for path in sorted(p for p in folder.rglob("*") if p.is_file()):
            bundle.write(path, path.relative_to(folder).as_posix())


def _extract(
    name: str, bundle: zipfile.ZipFile, wanted: dict[str, zipfile.ZipInfo], target: Path, progress: Progress
) -> Path:
    target.parent.mkdir(parents=True, exist_ok=True)
    staging = Path(tempfile.mkdtemp(prefix=".unpacking-", dir=target.parent))
    try:
        for done, (path, entry) in enumerate(wanted.items()):
            progress(done / len(wanted), "Unpacking")
            _extract_one(name, bundle, entry, staging / path)
        if target.exists():
            shutil.rmtree(target)
        os.replace(staging, target)
    except BaseException:
        shutil.rmtree(staging, ignore_errors=True)
        raise
    return target


def _extract_one(name: str, bundle: zipfile.ZipFile, entry: zipfile.ZipInfo, path: Path) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    written = 0
    with bundle.open(entry) as source, path.open("wb") as sink:
        while chunk := source.read(CHUNK):
            written += len(chunk)
            if written > entry.file_size:
                raise InputError(f"{name}: {quoted(entry.filename)} is larger than the archive says")
            sink.write(chunk)
