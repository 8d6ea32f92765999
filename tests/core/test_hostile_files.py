"""Damaged and hostile files: one sentence each, no exception of another kind, no more memory than they are worth."""

import io
import json
import random
import resource
import subprocess
import sys
import zipfile
from pathlib import Path

import numpy as np
import pytest
from hostile import SMALL_PNG, _image, mutated, read_hostile, seeds, small_capture, text_bomb
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from lucid_relic.errors import InputError
from lucid_relic.io.meshes import read_mesh, read_points

FILES = ("ball.stl", "ball.obj", "ball.ply", "ball.glb", "points.ply", "points.xyz", "text.ply", "textpoints.ply",
         "ball.off", "recipe.json", "capture.zip", "scan.3mf", "scan.obj", "scan.e57", "scan.csv", "scans.zip",
         "rgbd.zip")  # fmt: skip


@pytest.fixture(scope="module")
def good(tmp_path_factory: pytest.TempPathFactory) -> dict[str, bytes]:
    return seeds(tmp_path_factory.mktemp("good"))


@pytest.fixture(scope="module")
def scratch(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return tmp_path_factory.mktemp("damaged")


@pytest.mark.parametrize("name", FILES)
def test_every_good_file_is_read(name: str, good: dict[str, bytes], tmp_path: Path) -> None:
    assert read_hostile(name, good[name], tmp_path) is None


@settings(max_examples=700, deadline=None, derandomize=True, suppress_health_check=list(HealthCheck))
@given(name=st.sampled_from(FILES), seed=st.integers(0, 2**31))
def test_damaged_files_are_taken_or_refused_with_one_sentence(request, scratch: Path, name: str, seed: int) -> None:
    good = request.getfixturevalue("good")
    said = read_hostile(name, mutated(good[name], random.Random(seed)), scratch)
    if said is not None:
        assert said and "\n" not in said and str(scratch) not in said and len(said) < 400
    assert not list(scratch.glob(".unpacking-*"))


@pytest.mark.parametrize("name", ["text.ply", "textpoints.ply", "ball.off", "ball.stl", "ball.ply", "points.ply"])
@pytest.mark.parametrize("share", [0.3, 0.7, 0.97])
def test_a_file_cut_short_is_refused_not_read_in_part(name: str, share: float, good, tmp_path: Path) -> None:
    data = good[name]
    said = read_hostile(name, data[: int(len(data) * share)], tmp_path)
    assert said is not None and name in said


def test_points_come_from_text_as_from_binary(good, tmp_path: Path) -> None:
    (tmp_path / "points.ply").write_bytes(good["points.ply"])
    (tmp_path / "text.ply").write_bytes(good["textpoints.ply"])
    as_text, as_bytes = read_points(tmp_path / "text.ply"), read_points(tmp_path / "points.ply")
    assert np.allclose(as_text.points, as_bytes.points, atol=1e-3) and as_text.normals is None


def zip_of(entries: dict[str, bytes], method: int = zipfile.ZIP_DEFLATED) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", method) as bundle:
        for name, data in entries.items():
            bundle.writestr(name, data)
    return out.getvalue()


def manifest(**changes: object) -> bytes:
    with zipfile.ZipFile(io.BytesIO(small_capture(**changes))) as bundle:
        return bundle.read("capture.json")


def overlapping() -> bytes:
    """An archive whose directory names the same bytes three hundred times."""
    one = small_capture()
    with zipfile.ZipFile(io.BytesIO(one)) as bundle:
        first = bundle.getinfo("depth/0.png")
    out = io.BytesIO(one)
    with zipfile.ZipFile(out, "a") as bundle:
        for n in range(300):
            again = zipfile.ZipInfo(f"extra/{n}.png")
            again.compress_type, again.CRC = first.compress_type, first.CRC
            again.compress_size, again.file_size = first.compress_size, first.file_size
            again.header_offset = first.header_offset
            bundle.filelist.append(again)
            bundle.NameToInfo[again.filename] = again
        bundle._didModify = True
    return out.getvalue()


CASES = {
    "a large manifest": (lambda: zip_of({"capture.json": b'{"a":"' + b"x" * 30_000_000 + b'"}'}, 0), "larger than"),
    "a deep manifest": (lambda: zip_of({"capture.json": b'{"a":' * 9000 + b"1" + b"}" * 9000}), "nested"),
    "a huge number": (lambda: small_capture(depth_unit_mm=10**400), "depth_unit_mm"),
    "a lone surrogate": (lambda: zip_of({"capture.json": b'{"title":"\\ud800"}'}), "Unicode"),
    "UTF-16": (lambda: zip_of({"capture.json": json.dumps({"a": 1}).encode("utf-16")}), "Unicode"),
    "gigantic images": (
        lambda: small_capture(camera={"width": 13300, "height": 13300, "fx": 1, "fy": 1, "cx": 1, "cy": 1}),
        "megapixels",
    ),
    "an axis out of this world": (
        lambda: small_capture(
            tracking="turntable",
            turntable={"axis_point_mm": [0, 0, 1e300], "axis_direction": [0, 1, 0]},
            frames=[{"depth": "depth/0.png", "turntable_deg": 0}],
        ),
        "axis_point_mm",
    ),
    "one file named by every frame": (
        lambda: small_capture(frames=[{"depth": "depth/0.png"}] * 2), "names the file",
    ),
    "a file that is a folder too": (
        lambda: zip_of({"capture.json": manifest(frames=[{"depth": "a", "colour": "a/b"}]), "a": b"x", "a/b": b"y"}),
        "file and a folder",
    ),
    "an empty name": (lambda: small_capture(frames=[{"depth": ""}]), "frames[0].depth"),
    "a name of five thousand letters": (lambda: small_capture(frames=[{"depth": "x" * 5000}]), "frames[0].depth"),
    "a title of a megabyte": (lambda: small_capture(title="x" * 1_000_000), "title"),
    "entries on top of each other": (overlapping, "top of each other"),
    "a text bomb": (
        lambda: zip_of({"capture.json": manifest(frames=[{"depth": "depth/0.png"}]), "depth/0.png": text_bomb()}),
        "",
    ),
    "nothing measured": (
        lambda: zip_of({
            "capture.json": manifest(frames=[{"depth": "depth/0.png"}]),
            "depth/0.png": _image(np.zeros(SMALL_PNG[::-1], np.uint16), "PNG"),
        }),
        "any depth",
    ),
}  # fmt: skip


@pytest.mark.parametrize("case", CASES)
def test_captures_made_to_harm_are_refused_and_leave_nothing(case: str, tmp_path: Path) -> None:
    make, says = CASES[case]
    said = read_hostile("capture.zip", make(), tmp_path)
    assert said is not None and says in said and str(tmp_path) not in said


@pytest.mark.parametrize(
    ("name", "data", "says"),
    [
        ("far.xyz", b"1e30 0 0\n0 0 0\n", "kilometre"),
        ("huge.ply", b"ply\nformat binary_little_endian 1.0\nelement vertex 4000000000\nproperty float x\n"
                     b"property float y\nproperty float z\nend_header\n" + b"\0" * 400, "ends before"),
        ("header.ply", b"ply\nformat ascii 1.0\nelement vertex", "no whole header"),
        ("short.off", b"OFF\n100 200 0\n0 0 0\n", "ends before"),
        ("words.off", b"OFF\nmany few\n", "no whole header"),
        ("text.xyz", b"\xff\xfe1\0", "numbers"),
    ],
)  # fmt: skip
def test_meshes_and_points_made_to_harm_are_refused(name: str, data: bytes, says: str, tmp_path: Path) -> None:
    (tmp_path / name).write_bytes(data)
    read = read_points if name.endswith(("xyz", "huge.ply", "header.ply")) else read_mesh
    with pytest.raises(InputError, match=says) as refusal:
        read(tmp_path / name)
    assert str(tmp_path) not in str(refusal.value)


def test_a_small_file_costs_little_memory(tmp_path: Path) -> None:
    """The manifest that once cost a gigabyte, in a process of its own: its peak is told by the system."""
    nested = b"[" + b",".join([b"[1,2,3]"] * 2_700_000) + b"]"
    (tmp_path / "bomb.zip").write_bytes(zip_of({"capture.json": b'{"frames":' + nested + b"}"}))
    assert (tmp_path / "bomb.zip").stat().st_size < 100_000
    code = (
        "import sys, resource\n"
        "from lucid_relic.io.capture_archive import unpack_capture\n"
        "from lucid_relic.errors import InputError\n"
        "before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss\n"
        "try:\n    unpack_capture(sys.argv[1], sys.argv[2])\n"
        "except InputError:\n    print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before)\n"
    )
    command = [sys.executable, "-c", code, str(tmp_path / "bomb.zip"), str(tmp_path / "out")]
    said = subprocess.run(command, capture_output=True, text=True, check=True).stdout
    assert resource.getpagesize() and int(said) < 400_000  # kB; it was a million
