"""Whatever a device or its program wrote becomes folders of passes: captures, RGB-D folders, points, meshes, and .zip of them."""

import hashlib
import os
import shutil
import zipfile
from dataclasses import dataclass
from pathlib import Path, PurePosixPath
from typing import IO

from lucid_relic.errors import InputError
from lucid_relic.geometry.measured import Given, measured_cloud
from lucid_relic.io import tum
from lucid_relic.io.capture_archive import names_inside, unpack, unpack_capture
from lucid_relic.io.capture_folder import MANIFEST_NAME, CaptureFolder
from lucid_relic.io.formats import FORMATS, ScanOfFile, format_of
from lucid_relic.io.meshes import read_scans
from lucid_relic.io.points_folder import POINTS_NAME, PointsFolder, write_points_folder
from lucid_relic.progress import Progress, part_of, silent
from lucid_relic.types import UNITS_MM, PassState

COMPANIONS = (".mtl", ".png", ".jpg", ".jpeg")  # files that a scan beside them names
TITLE_LENGTH = 60
FRAME_BYTES = 1 << 20  # of the start of a file, which no other shares
MOST_FILES = 200  # of scans in one folder


@dataclass(frozen=True)
class Said:
    """What a person says of files that do not say it themselves: unit, lens, mm of one count of depth (0: the usual).

    least_points is how many a pass of points must have.
    """

    unit: str = ""
    lens: tum.Lens | None = None
    depth_unit_mm: float = 0.0
    least_points: int = 100


NOTHING_SAID = Said()


def readable_suffixes() -> tuple[str, ...]:
    """Suffixes, with their dot, of every file that can become a pass."""
    able = (f.suffixes for f in FORMATS if f.read_scans or f.read_points or f.read_mesh)
    return (".zip", *(f".{s}" for suffixes in able for s in suffixes))


def is_arrival(name: str) -> bool:
    """Whether a file's name says that it can become a pass by itself: it is no material and no picture."""
    return name.lower().endswith(readable_suffixes())


def open_pass_folder(root: str | Path, key: str | None = None) -> PassState:
    """The pass of a folder, as it was taken or came in: a capture, or a pass of points."""
    return source_of(root, key).as_pass()


def source_of(root: str | Path, key: str | None = None) -> CaptureFolder | PointsFolder:
    """The folder of a pass, whichever kind it is."""
    return PointsFolder(root, key) if (Path(root) / POINTS_NAME).exists() else CaptureFolder(root, key)


def arrive(path: Path, into: Path, said: Said = NOTHING_SAID, progress: Progress = silent) -> list[Path]:
    """Make the folders of all passes in one file or folder, numbered within `into`; each is whole and checked.

    A capture folder stays where it is. Raises `InputError`, with a sentence that names file and reason, and leaves nothing.
    """
    try:
        return _arrived(path, into, said, progress)
    except BaseException:
        shutil.rmtree(into, ignore_errors=True)
        raise


def _arrived(path: Path, into: Path, said: Said, progress: Progress) -> list[Path]:
    if path.is_dir():
        return _folder(path, into, said, progress)
    if not path.exists():
        raise InputError(f"{path}: there is no such file or folder")
    if path.suffix.lower() == ".zip":
        return _zip(path, into, said, progress)
    return _scan_file(path, into, said, progress)


def _folder(path: Path, into: Path, said: Said, progress: Progress) -> list[Path]:
    names = set(os.listdir(path))
    if MANIFEST_NAME in names or POINTS_NAME in names:
        if MANIFEST_NAME in names:
            _checked(path, path.name, progress)
        return [path]
    if tum.is_tum(names):
        return [_rgbd(path, into / "0", said, progress)]
    files = sorted(path / n for n in names if is_arrival(n))[:MOST_FILES]
    if not files:
        raise InputError(
            f"{path.name}: no pass in this folder: neither {MANIFEST_NAME} nor {tum.DEPTH_LIST}, nor a scan ({_suffixes()})"
        )
    return _each(files, into, said, progress)


def _suffixes() -> str:
    return ", ".join(s.lstrip(".") for s in readable_suffixes())


def _each(files: list[Path], into: Path, said: Said, progress: Progress) -> list[Path]:
    out: list[Path] = []
    for k, file in enumerate(files):
        out += _arrived(file, into / str(k), said, part_of(progress, k / len(files), (k + 1) / len(files)))
    return out


def _zip(path: Path, into: Path, said: Said, progress: Progress) -> list[Path]:
    names = names_inside(path)
    last = {PurePosixPath(n).name for n in names}
    unpacking, reading = part_of(progress, 0, 0.5), part_of(progress, 0.5, 1.0)
    if MANIFEST_NAME in last:
        target = unpack_capture(path, into / "0", unpacking)
        return [_checked(target, path.name, reading)]
    inner = into / "unpacked"
    if tum.is_tum(last):
        unpack(path, inner, _rgbd_entries, unpacking)
        return [_rgbd(inner, into / "0", said, reading, path.stem)]
    unpack(path, inner, _scan_entries, unpacking)
    files = sorted(f for f in inner.rglob("*") if f.is_file() and is_arrival(f.name))
    found = _each(files, into / "passes", said, reading)
    shutil.rmtree(inner)
    return found


def _scan_entries(name: str, bundle: zipfile.ZipFile) -> dict[str, zipfile.ZipInfo]:
    """Scans and what they name, in their folders; an archive within an archive is not opened."""
    wanted = {e.filename: e for e in bundle.infolist() if not e.is_dir() and not _hidden(e.filename)}
    scans = [n for n in wanted if is_arrival(n) and not n.lower().endswith(".zip")]
    if not scans:
        raise InputError(
            f"{name}: there is no pass inside: neither {MANIFEST_NAME} nor {tum.DEPTH_LIST}, nor a scan ({_suffixes()})"
        )
    return {n: e for n, e in wanted.items() if n in scans or n.lower().endswith(COMPANIONS)}


def _hidden(name: str) -> bool:
    return any(part.startswith((".", "__MACOSX")) for part in name.split("/"))


def _rgbd_entries(name: str, bundle: zipfile.ZipFile) -> dict[str, zipfile.ZipInfo]:
    """The lists of an RGB-D folder and the images they name, by their path within it."""
    entries = {e.filename: e for e in bundle.infolist() if not e.is_dir()}
    root = min((n for n in entries if PurePosixPath(n).name == tum.DEPTH_LIST), key=len)
    prefix = root[: -len(tum.DEPTH_LIST)]
    lists = {
        title: _list_of(bundle.open(entries[prefix + title]))
        for title in (tum.DEPTH_LIST, tum.COLOUR_LIST, *tum.TRAJECTORIES)
        if prefix + title in entries
    }
    missing = [n for n in tum.named_files(lists) if prefix + n not in entries]
    if missing:
        raise InputError(f"{name}: the lists name “{missing[0]}” but the file is missing")
    return {n: entries[prefix + n] for n in (*lists, *tum.named_files(lists))}


def _list_of(source: IO[bytes]) -> bytes:
    """A list, and a byte more where it is too large, which its reader then refuses."""
    with source:
        return source.read(tum.MAX_LIST_BYTES + 1)


def _rgbd(path: Path, target: Path, said: Said, progress: Progress, title: str = "") -> Path:
    """A capture folder of an RGB-D folder: its images are linked, or copied where that cannot be."""
    lists = {
        t: _list_of((path / t).open("rb"))
        for t in (tum.DEPTH_LIST, tum.COLOUR_LIST, *tum.TRAJECTORIES)
        if (path / t).is_file()
    }
    for name in (*lists, *tum.named_files(lists)):
        source, copy = path / name, target / name
        if ".." in PurePosixPath(name).parts or name.startswith("/") or not source.is_file():
            raise InputError(f"{path.name}: the lists name “{name[:60]}” but there is no such file in the folder")
        copy.parent.mkdir(parents=True, exist_ok=True)
        _linked(source, copy)
    tum.write_tum_manifest(target, (title or path.name)[:TITLE_LENGTH], said.lens, said.depth_unit_mm)
    return _checked(target, title or path.name, progress)


def _linked(source: Path, copy: Path) -> None:
    if copy.exists():
        return
    try:
        os.link(source, copy)
    except OSError:
        shutil.copyfile(source, copy)


def _checked(folder: Path, name: str, progress: Progress) -> Path:
    try:
        CaptureFolder(folder).check(progress)
    except InputError as error:
        raise InputError(f"{name}: {error}") from None
    return folder


def _scan_file(path: Path, into: Path, said: Said, progress: Progress) -> list[Path]:
    found = format_of(path)
    if found is None or not is_arrival(path.name):
        raise InputError(f"{path.name}: passes are read from {_suffixes()}, not “{path.suffix.lower()}”")
    progress(0.0, f"Reading {path.name}")
    scans = read_scans(path)
    out = []
    for k, scan in enumerate(scans):
        part = part_of(progress, 0.3 + 0.7 * k / len(scans), 0.3 + 0.7 * (k + 1) / len(scans))
        out.append(_scan(path, scan, len(scans), into / str(k), said, part))
    return out


def _frame_of(path: Path) -> str:
    """A name for the frame that the scans of a file share: the same whenever it comes in."""
    with path.open("rb") as source:
        head = source.read(FRAME_BYTES)
    return hashlib.blake2b(head, digest_size=8).hexdigest()


def _scan(path: Path, scan: ScanOfFile, count: int, target: Path, said: Said, progress: Progress) -> Path:
    unit, unit_from = (said.unit, "said") if said.unit else (scan.unit, "format")
    given = Given(unit, unit_from, scan.scanner, _frame_of(path) if scan.posed and count > 1 else "", said.least_points)
    cloud, noise = measured_cloud(scan.mesh or scan.points, given, path.name, progress)
    title = (scan.title or path.stem)[:TITLE_LENGTH]
    write_points_folder(target, title, cloud, noise, scan.shift * UNITS_MM[cloud.unit])
    return target
