"""What the commands take beside capture folders: points and meshes, mixed with captures, units and cameras by options."""

import json
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from scenes import knot_model, part_scan, uv_sphere

from lucid_relic.io.meshes import write_mesh, write_points
from lucid_relic.types import PointCloud
from lucid_relic_cli.main import main

RECIPE = {
    "name": "short",
    "steps": [
        {"operation": "place_frames"}, {"operation": "stand_cut"}, {"operation": "find_fit"}, {"operation": "settle"},
        {"operation": "fuse", "parameters": {"voxel_mm": 1.2}}, {"operation": "close"}, {"operation": "largest_piece"},
        {"operation": "lay_colour", "parameters": {"size": 256}},
    ],
}  # fmt: skip


def test_a_capture_and_points_of_another_device_are_processed_together(captures, tmp_path: Path, capsys) -> None:
    cut = part_scan(knot_model(0.8).mesh, (-0.5, 0.87, 0.0))
    inches = replace(cut, vertices=cut.vertices / np.float32(25.4))
    write_points(tmp_path / "detail.ply", PointCloud(inches.vertices, inches.vertex_normals()))
    (tmp_path / "short.json").write_text(json.dumps(RECIPE))
    out = tmp_path / "out"
    code = main([
        "process", str(captures[0]), str(tmp_path / "detail.ply"), "--unit", "in", "--recipe", str(tmp_path / "short.json"),
        "--out", str(out),
    ])  # fmt: skip
    assert code == 0, capsys.readouterr().err
    passes = json.loads((out / "placements.json").read_text())["passes"]
    assert [(p["title"], len(p["frames"])) for p in passes] == [("upright", 12), ("detail", 0)]
    report = json.loads((out / "report.json").read_text())
    settled = next(s["report"] for s in report["steps"] if s["operation"] == "settle")
    assert settled["frames"] == 12 and settled["clouds"][0]["after_mm"] < 0.3
    assert report["result"]["watertight"] and report["result"]["components"] == 1


def test_a_guessed_unit_is_told_and_a_said_one_is_not(tmp_path: Path, capsys) -> None:
    metres = replace(uv_sphere(30.0), vertices=uv_sphere(30.0).vertices / 1000)
    write_mesh(tmp_path / "ball.stl", metres)
    assert main(["inspect", str(tmp_path / "ball.stl"), "--json"]) == 0
    told = capsys.readouterr()
    assert "ball.stl: no unit said; 0.06 across, taken for m" in told.err
    assert json.loads(told.out)["volume_mm3"] == pytest.approx(4 / 3 * np.pi * 30**3, rel=0.01)
    assert main(["inspect", str(tmp_path / "ball.stl"), "--json", "--unit", "mm"]) == 0
    told = capsys.readouterr()
    assert told.err == "" and json.loads(told.out)["volume_mm3"] < 1


@pytest.mark.parametrize(
    ("options", "said"),
    [
        (["--camera", "1,2,3"], "--camera takes"), (["--camera", "a,b,c,d"], "--camera takes"),
        (["--depth-unit", "-1"], "--depth-unit must be"),
    ],
)  # fmt: skip
def test_options_that_cannot_be_are_refused(options: list[str], said: str, tmp_path: Path, capsys) -> None:
    assert main(["process", str(tmp_path), "--out", str(tmp_path / "out"), *options]) == 2
    assert said in capsys.readouterr().err and not (tmp_path / "out").exists()


def test_a_file_that_cannot_be_read_leaves_nothing(tmp_path: Path, capsys) -> None:
    write_mesh(tmp_path / "good.ply", uv_sphere(20.0))
    (tmp_path / "bad.e57").write_bytes(b"not a scan at all")
    code = main(["process", str(tmp_path / "good.ply"), str(tmp_path / "bad.e57"), "--out", str(tmp_path / "out")])
    assert code == 2 and "bad.e57: this is not an E57 file" in capsys.readouterr().err
    assert not (tmp_path / "out").exists()
