"""The command line as documented: files, figures and exit codes."""

import json
from pathlib import Path

import numpy as np
import pytest
import trimesh
from scenes import TurntablePlan, knot_model, uv_sphere, vase_model, write_capture

from lucid_relic.geometry.rigid import from_rotvec, transform_points
from lucid_relic.inspection.distance import sample_surface
from lucid_relic.io.meshes import read_mesh, write_mesh, write_points
from lucid_relic.types import PointCloud, TriangleMesh
from lucid_relic_cli.main import main


@pytest.fixture(scope="module")
def finished(captures, tmp_path_factory: pytest.TempPathFactory) -> Path:
    out = tmp_path_factory.mktemp("out")
    code = main([
        "process", str(captures[0]), str(captures[1]), "--recipe", "print", "--voxel", "1", "--out", str(out),
        "--set", "lay_colour.size=256", "--set", "simplify.triangles=9000", "--format", "stl,obj,ply,3mf,glb",
    ])  # fmt: skip
    assert code == 0
    return out


def test_process_writes_all_it_promises(finished: Path) -> None:
    names = {p.name for p in finished.iterdir()}
    assert {f"result.{k}" for k in ("stl", "obj", "mtl", "png", "ply", "3mf", "glb")} <= names
    report = json.loads((finished / "report.json").read_text())
    assert set(report["steps"][0]) == {"operation", "parameters", "seconds", "report"}
    assert report["result"]["watertight"] and report["result"]["triangles"] <= 9000
    assert 0 <= report["made_up_area_fraction"] < 0.3 and report["seconds"] > 0
    assert next(s for s in report["steps"] if s["operation"] == "fuse")["parameters"]["voxel_mm"] == 1.0


def test_process_stops_where_a_pass_does_not_belong(captures, tmp_path: Path, capsys) -> None:
    write_capture(tmp_path / "vase", vase_model(), TurntablePlan(stops=8, title="vase"), seed=4)
    out = tmp_path / "out"
    code = main(["process", str(captures[0]), str(tmp_path / "vase"), "--recipe", "draft", "--out", str(out)])
    assert code == 3 and "“vase” could not be placed" in capsys.readouterr().err
    report = json.loads((out / "report.json").read_text())
    assert [s["operation"] for s in report["steps"]] == ["place_frames", "stand_cut", "find_fit"]
    assert report["not_placed"] == ["vase"] and report["result"] is None
    assert not list(out.glob("result.*")), "no surface of half the passes may look like the object"


def test_placements_are_rigid_and_in_manifest_order(finished: Path) -> None:
    passes = json.loads((finished / "placements.json").read_text())["passes"]
    assert [p["title"] for p in passes] == ["upright", "tipped"]
    for p in passes:
        assert len(p["frames"]) == 12
        R = np.array(p["T_object_pass"])[:3, :3]
        assert np.allclose(R @ R.T, np.eye(3), atol=1e-6)


def test_inspect_and_convert(finished: Path, capsys, tmp_path: Path) -> None:
    assert main(["inspect", str(finished / "result.stl"), "--against", str(finished / "result.ply"), "--json"]) == 0
    figures = json.loads(capsys.readouterr().out)
    assert figures["watertight"] and figures["components"] == 1 and figures["max_mm"] < 0.01
    assert main(["convert", str(finished / "result.ply"), str(tmp_path / "big.stl"), "--scale", "2", "--up", "y"]) == 0
    size = np.ptp(read_mesh(finished / "result.ply").vertices, axis=0)
    assert np.allclose(np.ptp(read_mesh(tmp_path / "big.stl").vertices, axis=0), 2 * size[[0, 2, 1]], rtol=1e-4)


def test_align_finds_a_known_motion(tmp_path: Path, capsys) -> None:
    mesh = knot_model().mesh
    points = sample_surface(mesh, 30_000, seed=1).astype(np.float32)
    others = sample_surface(mesh, 30_000, seed=2)
    truth = from_rotvec(np.array([0.9, -1.4, 0.5]), np.array([80.0, -20, 45]))
    moved = transform_points(np.linalg.inv(truth), others).astype(np.float32)
    write_points(tmp_path / "a.ply", PointCloud(points))
    write_points(tmp_path / "b.xyz", PointCloud(moved))
    assert main(["align", str(tmp_path / "a.ply"), str(tmp_path / "b.xyz"), "--out", str(tmp_path / "T.json")]) == 0
    answer = json.loads((tmp_path / "T.json").read_text())
    assert answer["accepted"] and answer["overlap"] > 0.9
    off = transform_points(np.array(answer["T_fixed_moving"]), moved.astype(float)) - others
    assert np.linalg.norm(off, axis=1).max() < 0.2
    assert json.loads(capsys.readouterr().out)["accepted"]


def test_align_refuses_a_ball_on_a_ball(tmp_path: Path, capsys) -> None:
    for k in range(2):
        write_points(tmp_path / f"{k}.ply", PointCloud(sample_surface(uv_sphere(30), 12_000, k).astype(np.float32)))
    assert main(["align", str(tmp_path / "0.ply"), str(tmp_path / "1.ply")]) == 3
    assert not json.loads(capsys.readouterr().out)["accepted"]


@pytest.mark.parametrize("arguments", [
    ["process", "nowhere", "--out", "OUT"],
    ["process", "CAPTURE", "--out", "OUT", "--recipe", "soup"],
    ["process", "CAPTURE", "--out", "OUT", "--set", "fuse.voxel_mm=-3"],
    ["process", "CAPTURE", "--out", "OUT", "--set", "fuse"],
    ["process", "CAPTURE", "--out", "OUT", "--format", "doc"],
    ["inspect", "nowhere.stl"],
    ["convert", "nowhere.stl", "OUT/x.ply"],
    ["capture", "mug", "--out", "OUT"],
])  # fmt: skip
def test_bad_usage_is_one_sentence_and_writes_nothing(arguments, captures, tmp_path: Path, capsys) -> None:
    swap = {"CAPTURE": str(captures[0]), "OUT": str(tmp_path / "out")}
    assert main([swap.get(a, a.replace("OUT", str(tmp_path / "out"))) for a in arguments]) == 2
    said = capsys.readouterr().err.strip()
    assert said.startswith("lucid-relic: ") and "\n" not in said
    assert not (tmp_path / "out").exists()


@pytest.mark.parametrize("extra", [[], ["--hand"]])
def test_capture_writes_a_folder_that_can_be_processed(extra, tmp_path: Path, capsys) -> None:
    from lucid_relic.io.capture_folder import CaptureFolder

    write_mesh(tmp_path / "ball.stl", knot_model(2.0).mesh)
    out = tmp_path / "pass"
    assert main(["capture", str(tmp_path / "ball.stl"), "--out", str(out), "--stops", "4", *extra]) == 0
    folder = CaptureFolder(out)
    folder.check()
    assert len(folder.manifest.frames) == 4
    assert folder.manifest.tracking == ("shape" if extra else "turntable")
    assert main(["capture", str(tmp_path / "ball.stl"), "--out", str(out)]) == 2
    assert "not empty" in capsys.readouterr().err


@pytest.mark.parametrize("fixed", ["0 0 0\n", "0 0 0\n1 0 0\n0 1 0\n", "0 0 0\n" * 300])
def test_align_of_hardly_any_points_is_not_accepted_with_words(fixed: str, tmp_path: Path, capsys) -> None:
    (tmp_path / "fixed.xyz").write_text(fixed)
    (tmp_path / "one.xyz").write_text("0 0 0\n")
    assert main(["align", str(tmp_path / "fixed.xyz"), str(tmp_path / "one.xyz")]) == 3
    assert "100 are wanted" in capsys.readouterr().err


def test_a_recipe_that_is_not_utf8_is_one_sentence(captures, tmp_path: Path, capsys) -> None:
    (tmp_path / "mine.json").write_bytes('{"steps": []}'.encode("utf-16"))
    out = tmp_path / "out"
    command = ["process", str(captures[0]), "--recipe", str(tmp_path / "mine.json"), "--out", str(out)]
    assert main(command) == 2 and not out.exists()
    assert "Unicode" in capsys.readouterr().err


def test_a_mesh_is_checked_for_a_printer(tmp_path: Path, capsys) -> None:
    plate = trimesh.creation.box((40, 40, 0.5))
    write_mesh(tmp_path / "plate.stl", TriangleMesh(plate.vertices.astype(np.float32), plate.faces.astype(np.int32)))
    command = ["inspect", str(tmp_path / "plate.stl"), "--unit", "mm", "--print"]
    assert main([*command, "filament-0.4"]) == 0
    said = capsys.readouterr().out
    assert "FAILS  walls" in said and "not ready to print: filament-0.4" in said
    assert main([*command, "resin", "--json"]) == 0
    assert json.loads(capsys.readouterr().out)["print"]["ready"] is True
