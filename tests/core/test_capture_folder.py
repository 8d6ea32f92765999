"""Bad captures are refused with a sentence that names the fault, and nothing is left behind."""

import io
import json
import shutil
import zipfile
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from lucid_relic.errors import InputError
from lucid_relic.io.capture_archive import unpack_capture
from lucid_relic.io.capture_folder import CaptureFolder
from lucid_relic.light.srgb import to_linear
from lucid_relic.types import Camera


@pytest.fixture
def folder(captures, tmp_path: Path) -> Path:
    return Path(shutil.copytree(captures[0], tmp_path / "capture"))


def change(folder: Path, edit) -> None:
    path = folder / "capture.json"
    data = json.loads(path.read_text())
    edit(data)
    path.write_text(json.dumps(data))


def refused(folder: Path) -> str:
    with pytest.raises(InputError) as refusal:
        CaptureFolder(folder).check()
    return str(refusal.value)


def test_a_good_folder_is_taken_and_unknown_keys_are_kept(folder: Path) -> None:
    change(folder, lambda d: d.update(workshop={"lamp": 2}))
    opened = CaptureFolder(folder)
    opened.check()
    assert opened.manifest.raw["workshop"] == {"lamp": 2}
    assert opened.depth(0).dtype == np.float32 and opened.depth(0).max() > 100


def test_missing_depth_file(folder: Path) -> None:
    (folder / "depth/000003.png").unlink()
    assert "depth/000003.png" in refused(folder) and "missing" in refused(folder)


def test_depth_of_another_size(folder: Path) -> None:
    Image.fromarray(np.zeros((10, 10), np.uint16)).save(folder / "depth/000002.png")
    assert "10×10" in refused(folder) and "240×180" in refused(folder)


def test_eight_bit_depth(folder: Path) -> None:
    Image.fromarray(np.zeros((180, 240), np.uint8)).save(folder / "depth/000001.png")
    assert "16-bit" in refused(folder) and "depth/000001.png" in refused(folder)


def test_damaged_image(folder: Path) -> None:
    path = folder / "depth/000004.png"
    path.write_bytes(path.read_bytes()[:200])
    assert "damaged" in refused(folder)


@pytest.mark.parametrize(("edit", "says"), [
    (lambda d: d["frames"][2].update(pose=[[float("nan")] * 4] * 4), "frames[2].pose"),
    (lambda d: d["frames"][2].update(pose=[[2, 0, 0, 0], [0, 2, 0, 0], [0, 0, 2, 0], [0, 0, 0, 1]]), "rigid"),
    (lambda d: d["frames"][1].update(depth="../../etc/passwd"), "inside the folder"),
    (lambda d: d["camera"].update(fx="wide"), "camera.fx"),
    (lambda d: d["camera"].pop("cy"), "camera.cy is missing"),
    (lambda d: d["turntable"].update(axis_direction=[0, 0, 0]), "axis_direction"),
    (lambda d: d["frames"][0].pop("turntable_deg"), "turntable_deg"),
    (lambda d: d.update(depth_unit_mm=0), "depth_unit_mm"),
    (lambda d: d.update(version=9), "version"),
    (lambda d: d.update(frames=[]), "empty"),
    (lambda d: d.update(format="other"), "format"),
])  # fmt: skip
def test_manifest_faults_name_the_field(folder: Path, edit, says: str) -> None:
    change(folder, edit)
    assert says in refused(folder)


def test_not_a_capture_at_all(tmp_path: Path) -> None:
    with pytest.raises(InputError, match="not a capture folder"):
        CaptureFolder(tmp_path)
    (tmp_path / "capture.json").write_text("{not json")
    with pytest.raises(InputError, match="not valid JSON"):
        CaptureFolder(tmp_path)


def test_zip_comes_back_as_the_folder(zipped: Path, tmp_path: Path) -> None:
    opened = CaptureFolder(unpack_capture(zipped, tmp_path / "out"))
    opened.check()
    assert len(opened.manifest.frames) == 12


def hostile(path: Path, entries: dict[str, bytes]) -> Path:
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as bundle:
        for name, data in entries.items():
            bundle.writestr(name, data)
    return path


@pytest.mark.parametrize(("entries", "says"), [
    ({"capture.json": b"{}", "../outside.txt": b"x"}, "outside the folder"),
    ({"capture.json": b"{}", "/etc/x": b"x"}, "outside the folder"),
    ({"readme.txt": b"x"}, "no capture.json"),
    ({"capture.json": b"{}", "depth/0.png": b"\0" * 60_000_000}, "nothing was unpacked"),
])  # fmt: skip
def test_hostile_zips_are_refused_before_anything_is_written(tmp_path: Path, entries, says: str) -> None:
    archive = hostile(tmp_path / "bad.zip", entries)
    with pytest.raises(InputError, match=says):
        unpack_capture(archive, tmp_path / "target")
    assert sorted(p.name for p in tmp_path.iterdir()) == ["bad.zip"]


def test_ten_gigabyte_bomb_is_refused_by_what_it_declares(tmp_path: Path) -> None:
    archive = hostile(tmp_path / "bomb.zip", {"capture.json": b"{}", "depth/0.png": b"\0" * 1000})
    raw = bytearray(archive.read_bytes())
    size = (1000).to_bytes(4, "little")
    at = raw.rfind(size)
    raw[at : at + 4] = (4_000_000_000).to_bytes(4, "little")
    archive.write_bytes(raw)
    with pytest.raises(InputError, match="GB"):
        unpack_capture(archive, tmp_path / "target")
    assert sorted(p.name for p in tmp_path.iterdir()) == ["bomb.zip"]


def test_a_text_file_named_zip(tmp_path: Path) -> None:
    (tmp_path / "notes.zip").write_text("dear museum")
    with pytest.raises(InputError, match=r"notes.zip: this is not a \.zip"):
        unpack_capture(tmp_path / "notes.zip", tmp_path / "target")
    assert not (tmp_path / "target").exists()


def test_a_damaged_zip_leaves_nothing(zipped: Path, tmp_path: Path) -> None:
    raw = bytearray(zipped.read_bytes())
    for at in range(20_000, 60_000, 7):
        raw[at] ^= 0x5A
    (tmp_path / "broken.zip").write_bytes(io.BytesIO(raw).getvalue())
    with pytest.raises(InputError):
        unpack_capture(tmp_path / "broken.zip", tmp_path / "target")
    assert sorted(p.name for p in tmp_path.iterdir()) == ["broken.zip"]


def test_rays_undo_distortion() -> None:
    camera = Camera(160, 120, 200, 200, 79.5, 59.5, (-0.2, 0.05, 0.001, -0.002, 0.01))
    v, u = np.mgrid[5:115:10, 5:155:10]
    rays = camera.rays[v, u].reshape(-1, 2)
    pixels = camera.project(np.concatenate([rays, np.ones((len(rays), 1))], axis=1) * 300.0)
    assert np.allclose(pixels, np.stack([u.ravel(), v.ravel()], axis=1), atol=1e-3)


def test_a_colour_cards_matrix_is_applied_to_every_photograph(folder: Path) -> None:
    plain = CaptureFolder(folder).colour(0)
    warm = [[0.8, 0.1, 0.0], [0.0, 0.9, 0.0], [0.05, 0.0, 1.1]]
    change(folder, lambda d: d.update(colour_correction={"matrix": warm}))
    corrected = CaptureFolder(folder).colour(0)
    wanted = np.clip(to_linear(plain) @ np.array(warm).T, 0, 1)
    assert np.abs(to_linear(corrected) - wanted).max() < 0.01 and not np.array_equal(corrected, plain)
    change(folder, lambda d: d.update(colour_correction={"matrix": [[1, 0], [0, 1]]}))
    assert "colour_correction.matrix must be 3×3 numbers" in refused(folder)
