"""A bundle: a whole object as one file: its captures, its stored arrays, and a document that says what they are.

The document, `bundle.json`, is written last. It names every file of the captures with its size and digest; arrays are
named by the hash of their content. All of it is checked before anything is taken: a bundle is whole, or it is refused.
"""

import hashlib
import json
import shutil
import zipfile
from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import Any
from uuid import UUID

import numpy as np

from lucid_relic.errors import InputError, quoted
from lucid_relic.io.array_store import ArrayStore, is_array_name
from lucid_relic.io.bounded_json import parse_json
from lucid_relic.io.capture_archive import names_inside, unpack
from lucid_relic.io.snapshots import stored_names
from lucid_relic.progress import Progress, part_of, silent

FORMAT, VERSION = "lucid-relic/bundle", 1
DOCUMENT = "bundle.json"
MAX_DOCUMENT_BYTES = 512 * 2**20  # of the document: manifests and reports of some thousand steps
DIGEST_BYTES = 20
CHUNK = 1 << 20
LISTS = ("captures", "snapshots", "steps")


def write_bundle(
    path: Path,
    document: Mapping[str, Any],
    store: ArrayStore,
    captures: Mapping[str, Path],
    progress: Progress = silent,
) -> None:
    """Write an object as one file: its document, the arrays that its snapshots name, and the folders of its captures."""
    arrays = sorted(set().union(*(stored_names(s["manifest"]) for s in document["snapshots"])))
    folders = [(key, file) for key, folder in captures.items() for file in _files(folder)]
    total = max(len(arrays) + len(folders), 1)
    files: dict[str, list[Any]] = {}
    # As they are: images and measurements hardly shrink.
    with zipfile.ZipFile(path, "w", zipfile.ZIP_STORED) as bundle:
        for n, name in enumerate(arrays):
            progress(n / total, "Packing what was worked out")
            bundle.write(store.path(name), f"arrays/{name}.npy")
        for n, (key, file) in enumerate(folders):
            progress((len(arrays) + n) / total, "Packing the passes")
            inside = f"captures/{key}/{file.relative_to(captures[key]).as_posix()}"
            files[inside] = [file.stat().st_size, _digest_of(file)]
            bundle.write(file, inside)
        whole = {"format": FORMAT, "version": VERSION, **document, "arrays": arrays, "files": files}
        bundle.writestr(DOCUMENT, json.dumps(whole, separators=(",", ":")))


def is_bundle(path: str | Path) -> bool:
    """Whether a .zip is a bundle, whole or not."""
    try:
        return DOCUMENT in names_inside(path)
    except InputError:
        return False


def open_bundle(path: Path, target: Path, name: str, progress: Progress = silent) -> dict[str, Any]:
    """Unpack a bundle into a new folder (`arrays/`, `captures/<key>/`) and give its document.

    Raises `InputError`, with nothing left in the folder, for what is no bundle, is of a newer version, lacks something
    or holds something that is not what it says.
    """
    document = _document(path, name)
    wanted = {f"arrays/{array}.npy" for array in document["arrays"]} | set(document["files"])

    def choose(_: str, bundle: zipfile.ZipFile) -> dict[str, zipfile.ZipInfo]:
        inside = {e.filename: e for e in bundle.infolist()}
        missing = sorted(wanted - inside.keys())
        if missing:
            raise InputError(
                f"{name}: {len(missing)} files of this bundle are missing, the first is {quoted(missing[0])}"
            )
        return {file: inside[file] for file in sorted(wanted)}

    unpack(path, target, choose, part_of(progress, 0, 0.6), name)
    try:
        _check_files(target, document, name, part_of(progress, 0.6, 1))
    except BaseException:
        shutil.rmtree(target, ignore_errors=True)
        raise
    return document


def _document(path: Path, name: str) -> dict[str, Any]:
    """The document of a bundle, checked as far as it can be by itself."""
    if not is_bundle(path):
        raise InputError(f"{name}: there is no {DOCUMENT} inside; this is not a bundle")
    try:
        with zipfile.ZipFile(path) as bundle, bundle.open(DOCUMENT) as source:
            text = source.read(MAX_DOCUMENT_BYTES + 1)
    except Exception:  # a damaged archive makes the library raise whatever it likes
        raise InputError(f"{name}: its {DOCUMENT} cannot be read; the bundle is damaged") from None
    document = parse_json(text, f"{name}, {DOCUMENT}", MAX_DOCUMENT_BYTES)
    if not isinstance(document, dict) or document.get("format") != FORMAT:
        raise InputError(f"{name}: its {DOCUMENT} is not one of a bundle")
    version = document.get("version")
    if not isinstance(version, int) or isinstance(version, bool) or version < 1:
        raise InputError(f"{name}: its version is {quoted(version)}, which is none")
    if version > VERSION:
        raise InputError(
            f"{name}: this bundle is of version {version}; up to {VERSION} is understood here. Update the program first."
        )
    _check_document(document, name)
    return document


def _check_document(document: dict[str, Any], name: str) -> None:
    wrong = lambda what: InputError(f"{name}: {what}; the bundle is damaged")  # noqa: E731
    if not isinstance(document.get("object"), dict) or not all(isinstance(document.get(k), list) for k in LISTS):
        raise wrong("its object, captures, snapshots or steps are missing")
    arrays, files = document.get("arrays"), document.get("files")
    if not isinstance(arrays, list) or not all(isinstance(a, str) and is_array_name(a) for a in arrays):
        raise wrong("its list of arrays is none")
    if not isinstance(files, dict) or not all(_is_told(f, v) for f, v in files.items()):
        raise wrong("its list of files is none")
    captures = _ids(document["captures"], wrong)
    snapshots = _ids(document["snapshots"], wrong)
    for snapshot in document["snapshots"]:
        manifest = snapshot.get("manifest")
        if not isinstance(manifest, dict) or not isinstance(manifest.get("passes"), list):
            raise wrong("one of its states is none")
        lacking = stored_names(manifest) - set(arrays)
        unknown = {entry.get("capture") for entry in manifest["passes"] if isinstance(entry, dict)} - captures
        if lacking or unknown:
            raise wrong("one of its states names what is not inside")
    for step in document["steps"]:
        ends = (step.get("before"), step.get("after")) if isinstance(step, dict) else (None, None)
        if ends[1] not in snapshots or (ends[0] is not None and ends[0] not in snapshots):
            raise wrong("one of its steps leads nowhere")
    if not all(map(_is_branch, _rows(document, "branches", wrong))):
        raise wrong("one of its branches is none")
    if not all(map(_is_accepted, _rows(document, "accepted", wrong))):
        raise wrong("one of its accepted findings is none")
    head = document["object"].get("head")
    if head is not None and head not in snapshots:
        raise wrong("the state it shows is not inside")


def _rows(document: dict[str, Any], name: str, wrong: Any) -> list[Any]:
    """A list that bundles of earlier versions do not have."""
    rows = document.get(name, [])
    if not isinstance(rows, list):
        raise wrong(f"its list of {name} is none")
    return rows


def _is_branch(row: Any) -> bool:
    return isinstance(row, dict) and isinstance(row.get("name"), str) and isinstance(row.get("tip"), (str, type(None)))


def _is_accepted(row: Any) -> bool:
    texts = ("kind", "about", "figure", "title", "word")
    if not isinstance(row, dict) or not all(isinstance(row.get(name), str) for name in texts):
        return False
    place = row.get("place")
    numbers = isinstance(place, list) and len(place) == 3 and all(isinstance(v, (int, float)) for v in place)
    return place is None or numbers


def _ids(rows: Iterable[Any], wrong: Any) -> set[str]:
    found = set()
    for row in rows:
        try:
            found.add(str(UUID(row["id"])))
        except (KeyError, TypeError, ValueError, AttributeError):
            raise wrong("one of its captures or states has no name") from None
    return found


def _is_told(file: str, told: Any) -> bool:
    parts = file.split("/")
    return (
        len(parts) >= 3 and parts[0] == "captures" and ".." not in parts
        and isinstance(told, list) and len(told) == 2 and isinstance(told[0], int) and isinstance(told[1], str)
    )  # fmt: skip


def _check_files(target: Path, document: dict[str, Any], name: str, progress: Progress) -> None:
    """Whether every unpacked file is what its name or the document says."""
    total = max(len(document["arrays"]) + len(document["files"]), 1)
    for n, array in enumerate(document["arrays"]):
        progress(n / total, "Checking what was worked out")
        if not _is_array(target / "arrays" / f"{array}.npy", array):
            raise InputError(f"{name}: the array {array[:8]}… is not what it was; the bundle is damaged")
    for n, (file, (size, digest)) in enumerate(document["files"].items()):
        progress((len(document["arrays"]) + n) / total, "Checking the passes")
        path = target / file
        if path.stat().st_size != size or _digest_of(path) != digest:
            raise InputError(f"{name}: {quoted(file)} is not what it was; the bundle is damaged")


def _is_array(path: Path, name: str) -> bool:
    try:
        array = np.load(path, mmap_mode="r", allow_pickle=False)
    except (ValueError, OSError, EOFError):
        return False
    return ArrayStore.name_of(array) == name


def _files(folder: Path) -> list[Path]:
    return sorted(p for p in folder.rglob("*") if p.is_file())


def _digest_of(path: Path) -> str:
    digest = hashlib.blake2b(digest_size=DIGEST_BYTES)
    with path.open("rb") as source:
        while chunk := source.read(CHUNK):
            digest.update(chunk)
    return digest.hexdigest()
