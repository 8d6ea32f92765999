"""Bundles as files: whole and identical to the bit, or refused with a sentence and nothing taken."""

import json
import shutil
import zipfile
from pathlib import Path
from uuid import uuid4

import numpy as np
import pytest

from lucid_relic.errors import InputError
from lucid_relic.io.array_store import ArrayStore
from lucid_relic.io.bundle import DOCUMENT, VERSION, is_bundle, open_bundle, write_bundle

CAPTURE, FIRST, SECOND = (str(uuid4()) for _ in range(3))


def manifest(store: ArrayStore, n: int) -> dict:
    return {"passes": [{"capture": CAPTURE, "frame_poses": store.put(np.arange(16.0) + n)}], "mesh": None}


@pytest.fixture
def written(tmp_path: Path) -> Path:
    """A bundle of an object with one capture and two states."""
    store = ArrayStore(tmp_path / "store")
    folder = tmp_path / "captures" / CAPTURE
    (folder / "depth").mkdir(parents=True)
    (folder / "capture.json").write_text("{}")
    (folder / "depth" / "000000.png").write_bytes(bytes(range(256)) * 20)
    document = {
        "object": {"title": "Keel bolt", "notes": "", "head": SECOND, "set_up": {"stops": 24}},
        "captures": [{"id": CAPTURE, "title": "upright", "frames": 1}],
        "snapshots": [
            {"id": FIRST, "manifest": manifest(store, 0), "summary": {}, "findings": []},
            {"id": SECOND, "manifest": manifest(store, 1), "summary": {}, "findings": []},
        ],
        "steps": [{"operation": "settle", "before": FIRST, "after": SECOND}],
    }
    path = tmp_path / "keel-bolt-bundle.zip"
    write_bundle(path, document, store, {CAPTURE: folder})
    return path


def changed(path: Path, change, files: dict[str, bytes] | None = None) -> Path:
    """A copy of a bundle with its document changed, and some files put in place of others (None leaves them out)."""
    out = path.with_name("changed.zip")
    with zipfile.ZipFile(path) as source, zipfile.ZipFile(out, "w") as target:
        for entry in source.infolist():
            data = source.read(entry)
            if entry.filename == DOCUMENT:
                document = json.loads(data)
                change(document)
                data = json.dumps(document).encode()
            data = (files or {}).get(entry.filename.split("/")[-1], data)
            if data is not None:
                target.writestr(entry.filename, data)
    return out


def test_a_bundle_comes_out_as_it_went_in(written: Path, tmp_path: Path) -> None:
    assert is_bundle(written)
    document = open_bundle(written, tmp_path / "there", "keel.zip")
    assert document["object"]["set_up"] == {"stops": 24} and document["version"] == VERSION
    there = tmp_path / "there"
    for file in (tmp_path / "captures").rglob("*.*"):
        assert (there / file.relative_to(tmp_path)).read_bytes() == file.read_bytes()
    store = ArrayStore(tmp_path / "second")
    for name in document["arrays"]:
        assert (there / "arrays" / f"{name}.npy").read_bytes() == ArrayStore(tmp_path / "store").path(name).read_bytes()
        store.take(there / "arrays" / f"{name}.npy", name)
    poses = store.get(document["snapshots"][1]["manifest"]["passes"][0]["frame_poses"])
    assert np.array_equal(poses, np.arange(16.0) + 1)
    assert store.put(np.arange(16.0)) in document["arrays"]


def test_an_older_bundle_without_what_came_later_opens(written: Path, tmp_path: Path) -> None:
    def older(document: dict) -> None:
        del document["object"]["set_up"], document["object"]["notes"]
        document["made_by"] = "an early version"

    assert open_bundle(changed(written, older), tmp_path / "there", "old.zip")["object"]["title"] == "Keel bolt"


@pytest.mark.parametrize(
    ("change", "files", "words"),
    [
        (lambda d: d.update(version=VERSION + 1), {}, "Update the program"),
        (lambda d: d.update(version="one"), {}, "which is none"),
        (lambda d: d.update(format="other"), {}, "not one of a bundle"),
        (lambda d: d.pop("steps"), {}, "missing"),
        (lambda d: d["steps"][0].update(after=str(uuid4())), {}, "leads nowhere"),
        (lambda d: d["object"].update(head="x"), {}, "not inside"),
        (lambda d: d["captures"].clear(), {}, "names what is not inside"),
        (lambda d: d["arrays"].pop(), {}, "names what is not inside"),
        (lambda d: d["snapshots"][0].update(id="../../etc"), {}, "has no name"),
        (lambda d: d["files"].update({"captures/../../x/y": [1, "a"]}), {}, "list of files"),
        (lambda d: d["files"].update({f"captures/{CAPTURE}/gone.png": [1, "a"]}), {}, "missing"),
        (lambda d: None, {"000000.png": b"other"}, "not what it was"),
        (lambda d: None, {"capture.json": None}, "missing"),
    ],
)  # fmt: skip
def test_what_is_broken_newer_or_foreign_is_refused_and_nothing_is_taken(
    written: Path, tmp_path: Path, change, files, words: str
) -> None:
    with pytest.raises(InputError, match=words) as said:
        open_bundle(changed(written, change, files), tmp_path / "there", "keel.zip")
    assert "keel.zip" in str(said.value) and len(str(said.value)) < 400


def test_an_array_that_was_changed_is_found_by_its_name(written: Path, tmp_path: Path) -> None:
    with zipfile.ZipFile(written) as bundle:
        name = next(e.filename for e in bundle.infolist() if e.filename.startswith("arrays/")).split("/")[-1]
    other = tmp_path / "other.npy"
    np.save(other, np.arange(16.0) + 9)
    with pytest.raises(InputError, match="not what it was"):
        open_bundle(changed(written, lambda d: None, {name: other.read_bytes()}), tmp_path / "there", "keel.zip")


def test_what_is_no_bundle_is_said_to_be_none(written: Path, tmp_path: Path) -> None:
    plain = tmp_path / "plain.zip"
    with zipfile.ZipFile(plain, "w") as bundle:
        bundle.writestr("capture.json", "{}")
    cut = tmp_path / "cut.zip"
    cut.write_bytes(written.read_bytes()[:-200])
    for path in (plain, cut):
        assert not is_bundle(path)
        with pytest.raises(InputError, match="not a bundle"):
            open_bundle(path, tmp_path / "there", path.name)
    shutil.copy(written, tmp_path / "garbled.zip")
    data = bytearray(written.read_bytes())
    at = data.find(b'"format"')
    data[at : at + 8] = b"\x00" * 8
    (tmp_path / "garbled.zip").write_bytes(bytes(data))
    with pytest.raises(InputError):
        open_bundle(tmp_path / "garbled.zip", tmp_path / "there", "garbled.zip")
