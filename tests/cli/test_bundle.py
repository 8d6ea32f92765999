"""Bundles on the command line: passes out, the same passes in; what is broken says so and leaves nothing."""

import json
from pathlib import Path

import pytest
from scenes import uv_sphere

from lucid_relic.io.meshes import write_mesh
from lucid_relic_cli.main import main


def test_passes_go_out_as_one_file_and_come_in_again(captures, tmp_path: Path, capsys: pytest.CaptureFixture) -> None:
    write_mesh(tmp_path / "detail.ply", uv_sphere(20))
    file = tmp_path / "lump.zip"
    out = [
        "bundle",
        "out",
        str(captures[0]),
        str(tmp_path / "detail.ply"),
        "--unit",
        "mm",
        "--out",
        str(file),
        "--json",
    ]
    assert main(out) == 0
    told = json.loads(capsys.readouterr().out)
    assert told["passes"] == ["upright", "detail"] and told["bytes"] == file.stat().st_size
    there = tmp_path / "there"
    assert main(["bundle", "in", str(file), "--out", str(there), "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert told["title"] == "lump" and told["passes"] == ["upright", "detail"] and told["states"] == 1
    for original in captures[0].rglob("*"):
        if original.is_file():
            assert (there / "upright" / original.relative_to(captures[0])).read_bytes() == original.read_bytes()
    assert main(["bundle", "in", str(file), "--out", str(there)]) == 2
    assert "not empty" in capsys.readouterr().err
    broken = tmp_path / "broken.zip"
    broken.write_bytes(file.read_bytes()[:-300])
    assert main(["bundle", "in", str(broken), "--out", str(tmp_path / "nowhere")]) == 2
    assert "not a bundle" in capsys.readouterr().err and not (tmp_path / "nowhere").exists()
