"""The capture desk's commands: forecast, coverage, board, sweep, and capture with instruments."""

import json
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from scenes import QUICK, knot_model, uv_sphere, write_frames

from lucid_relic.calibration.board import Board
from lucid_relic.calibration.guided import positions
from lucid_relic.capture.board_view import view_of_flat
from lucid_relic.capture.hand import HandPlan, VirtualHandScanner
from lucid_relic.io.capture_folder import CaptureFolder
from lucid_relic.io.meshes import write_mesh
from lucid_relic.types import Camera
from lucid_relic_cli.main import main

CAMERA = Camera.centred(640, 480, 900.0)


@pytest.fixture(scope="module")
def lump(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("lump") / "lump.ply"
    write_mesh(path, knot_model(1.5).mesh)
    return path


@pytest.fixture(scope="module")
def turn(lump: Path) -> Path:
    out = lump.parent / "turn"
    assert main(["capture", str(lump), "--device", "desk", "--stops", "8", "--out", str(out)]) == 0
    return out


def told(capsys: pytest.CaptureFixture[str], *arguments: str) -> dict:
    capsys.readouterr()
    assert main([*arguments, "--json"]) == 0
    return json.loads(capsys.readouterr().out)


def test_forecast_of_a_capture_has_the_keys_that_are_promised(turn: Path, capsys) -> None:
    figures = told(capsys, "forecast", str(turn), "--stops", "12")
    assert set(figures["grip"]) == {"slide", "turn", "axes", "weak"} and np.shape(figures["grip"]["axes"]) == (3, 3)
    assert all(0 <= g <= 1 for g in figures["grip"]["slide"] + figures["grip"]["turn"])
    assert all(0 <= share <= 1 for share in figures["drop_out"].values())
    assert figures["points"] > 1000 and figures["memory_mb"] > 100 and 0.1 < figures["minutes"] < 1
    assert 0.5 < figures["seen"] <= 1 and figures["best"]["words"]
    assert main(["forecast", str(turn)]) == 0 and "minutes" in capsys.readouterr().out


def test_forecast_of_a_mesh_knows_its_shape(tmp_path: Path, capsys) -> None:
    write_mesh(tmp_path / "ball.stl", uv_sphere(25.0))
    figures = told(capsys, "forecast", str(tmp_path / "ball.stl"), "--unit", "mm")
    assert (
        figures["grip"]["weak"] and set(figures["drop_out"]) == {"hidden"} and 0 < figures["drop_out"]["hidden"] < 0.5
    )


def test_coverage_says_what_is_enough_and_what_to_take_next(turn: Path, capsys) -> None:
    figures = told(capsys, "coverage", str(turn), "--for", "screen")
    assert set(figures) == {"seen_enough", "thin_cm2", "never_cm2", "next"}
    assert 0.3 < figures["seen_enough"] < 1 and figures["never_cm2"] > 0
    assert {"kind", "stops", "tip_deg", "gain", "common"} <= set(figures["next"][0])


def test_track_follows_a_hand_and_tells_what_is_promised(tmp_path: Path, capsys) -> None:
    swept = tmp_path / "swept"
    write_frames(swept, VirtualHandScanner(knot_model(1.5), HandPlan(frames=30, turns=0.25), QUICK, 3))
    figures = told(capsys, "track", str(swept))
    promised = {"frames", "held", "lost", "found", "slips", "frames_per_s", "poses"}
    assert promised <= set(figures) and figures["frames"] == figures["held"] == 30 and figures["lost"] == []
    assert np.shape(figures["poses"]) == (30, 4, 4) and figures["frames_per_s"] > 0 and figures["late"] == 0
    hurried = told(capsys, "track", str(swept), "--rate", "200")
    assert hurried["late"] > 0 and hurried["held"] + sum(b - a + 1 for a, b, _ in hurried["lost"]) == 30
    assert main(["track", str(swept)]) == 0 and "held      30" in capsys.readouterr().out
    for rate in ("0", "-3", "nan"):
        assert main(["track", str(swept), "--rate", rate]) == 2 and "--rate must lie" in capsys.readouterr().err


@pytest.mark.parametrize(
    ("more", "says"),
    [
        (["--stops", "0"], "between 3 and 2000"),
        (["--exposure", "0"], "exposure must lie between"),
        (["--exposure", "dark"], "numbers with commas"),
        (["--gate", "400,200"], "inside out"),
        (["--gate", "400"], "NEAR,FAR"),
        (["--path", "small and plain"], "table of two axes"),
        (["--markers", "3"], "--markers must lie between 6 and 40"),
    ],
)
def test_settings_that_cannot_be_are_refused_and_nothing_is_written(
    lump: Path, tmp_path: Path, more, says, capsys
) -> None:
    out = tmp_path / "out"
    assert main(["capture", str(lump), "--device", "desk", "--out", str(out), *more]) == 2
    assert says in capsys.readouterr().err and not out.exists()


def test_exposures_infrared_and_the_gate_travel_into_the_capture(lump: Path, tmp_path: Path) -> None:
    out = tmp_path / "hdr"
    options = ["--stops", "3", "--exposure", "4,16", "--infrared", "--gate", "200,330", "--gain", "3"]
    assert main(["capture", str(lump), "--device", "desk", "--out", str(out), *options]) == 0
    folder = CaptureFolder(out)
    depth = folder.depth(1)
    assert depth[depth > 0].min() >= 200 and depth.max() <= 330
    assert folder.manifest.raw["frames"][0]["exposures_ms"] == [4.0, 16.0]


def test_two_axes_and_a_hand_are_captured(lump: Path, tmp_path: Path) -> None:
    assert main(["capture", str(lump), "--device", "hand", "--stops", "3", "--out", str(tmp_path / "hand")]) == 0
    assert CaptureFolder(tmp_path / "hand").manifest.tracking == "shape"


def test_markers_on_the_tray_hold_a_pass(lump: Path, tmp_path: Path, capsys) -> None:
    out = tmp_path / "marked"
    options = ["--device", "hand", "--stops", "6", "--markers", "16"]
    assert main(["capture", str(lump), "--out", str(out), *options]) == 0
    assert CaptureFolder(out).manifest.tracking == "markers"
    # 60° from frame to frame: too wide for shape, not for markers.
    figures = told(capsys, "track", str(out))
    assert figures["held"] + sum(b - a + 1 for a, b, _ in figures["lost"]) == 6 and figures["held"] >= 3
    assert all(reason == "few markers" for _, _, reason in figures["lost"])


def board_pictures(folder: Path, count: int = 6) -> Path:
    folder.mkdir()
    board = Board()
    linear = 0.03 + 0.72 * (board.picture(6.0).astype(np.float32) / 255)
    for k, position in enumerate(positions(board, CAMERA)[:count]):
        picture = view_of_flat(linear, 6.0, CAMERA, position.pose, np.random.default_rng(k))
        Image.fromarray(picture).save(folder / f"{k}.png")
    return folder


def test_board_tells_the_lens_or_why_not(tmp_path: Path, capsys) -> None:
    folder = board_pictures(tmp_path / "board")
    figures = told(capsys, "board", str(folder))
    assert {"fx", "fy", "cx", "cy", "distortion", "rms_px", "field", "ok"} <= set(figures)
    assert figures["fx"] == pytest.approx(900.0, rel=4e-3) and figures["rms_px"] < 0.3 and figures["ok"]
    for name in ("4.png", "5.png"):
        (folder / name).unlink()
    assert main(["board", str(folder)]) == 2 and "read in 4 pictures; 5 positions" in capsys.readouterr().err
    assert main(["board", str(folder), "--squares", "11,8,12,9,120"]) == 2
    assert "another board" in capsys.readouterr().err
    assert main(["board", str(tmp_path)]) == 2 and "no pictures" in capsys.readouterr().err
    assert main(["board", str(folder), "--squares", "11,8"]) == 2 and "--squares takes" in capsys.readouterr().err
    assert main(["board", str(folder), "--print", str(tmp_path / "print.png")]) == 0
    with Image.open(tmp_path / "print.png") as printed:
        assert printed.width == round(11 * 12 * 300 / 25.4)


def test_sweep_refuses_what_is_no_folder_of_sweeps(tmp_path: Path, capsys) -> None:
    assert main(["sweep", str(tmp_path), "--out", str(tmp_path / "out")]) == 2
    assert "no sweep.json" in capsys.readouterr().err and not (tmp_path / "out").exists()


def test_the_line_laser_is_captured_and_its_pictures_read_again(lump: Path, tmp_path: Path, capsys) -> None:
    pictures = tmp_path / "pictures"
    options = ["--device", "line", "--stops", "1", "--pictures", str(pictures)]
    assert main(["capture", str(lump), *options, "--out", str(tmp_path / "a")]) == 0
    data = json.loads((pictures / "sweep.json").read_text())
    data["sweeps"][0]["pictures"] = data["sweeps"][0]["pictures"][::3]
    (pictures / "sweep.json").write_text(json.dumps(data))
    figures = told(capsys, "sweep", str(pictures), "--out", str(tmp_path / "b"))
    assert figures["frames"] == 1 and figures["fx"] == pytest.approx(1000.0, rel=2e-3)
    assert all(s["read"] > 0.9 * s["pictures"] for s in figures["sweeps"])
    one, two = (CaptureFolder(tmp_path / name).depth(0) for name in "ab")
    both = (one > 0) & (two > 0)
    assert both.sum() > 3000 and np.median(np.abs(one - two)[both]) < 0.2
