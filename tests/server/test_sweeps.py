"""Line sweeps at the desk and as files that come in."""

import zipfile
from pathlib import Path

import pytest
from django.conf import settings

from lucid_relic.calibration.corner import LEFT, RIGHT
from lucid_relic.capture.line_laser import BOARD_PX_PER_MM, LineLaser, SweepPlan
from lucid_relic.demo.objects import demo_model
from lucid_relic.io.capture_folder import CaptureFolder
from lucid_relic.io.sweep_writer import SweepWriter
from lucid_relic.types import Camera
from objects import core_door

CAMERA = Camera.centred(800, 600, 1000.0)
JOB = "1f0d1c5e-6f0b-4a5b-9a53-0b6c1d4e8f11"


@pytest.fixture
def own_data(settings, tmp_path: Path) -> Path:
    settings.DATA = tmp_path
    (tmp_path / "captures").mkdir()
    return tmp_path


@pytest.fixture(scope="module")
def pictures(tmp_path_factory) -> Path:
    """A folder of one sweep over the tile."""
    folder = tmp_path_factory.mktemp("sweeps") / "pictures"
    boards = (LEFT.picture(BOARD_PX_PER_MM), RIGHT.picture(BOARD_PX_PER_MM))
    laser = LineLaser(demo_model("tile"), SweepPlan(sweeps=1, pictures=90), CAMERA, boards, seed=3)
    writer = SweepWriter(folder, "tile by line", laser.corner_picture())
    writer.sweep(laser.photograph(0), laser.pictures(0))
    writer.finish()
    return folder


def zipped(folder: Path, into: Path, without: str = "") -> Path:
    with zipfile.ZipFile(into, "w") as bundle:
        for path in sorted(folder.rglob("*")):
            if path.is_file() and path.name != without:
                bundle.write(path, f"tile/{path.relative_to(folder)}")
    return into


def test_a_zip_of_sweeps_becomes_a_pass_and_a_broken_one_says_why(own_data: Path, pictures: Path) -> None:
    good, broken = zipped(pictures, own_data / "a.zip"), zipped(pictures, own_data / "b.zip", without="0003.jpg")
    files = [(good, "tile.zip"), (broken, "broken.zip")]
    came = list(core_door.arrivals(files, {}, JOB, 1, core_door.silent))
    whole, refused = sorted(came, key=lambda a: bool(a.refused))
    assert (whole.title, whole.frames) == ("tile by line", 1) and "0003.jpg" in refused.refused
    folder = CaptureFolder(core_door.capture_path(whole.key))
    assert (folder.depth(0) > 0).mean() > 0.01 and folder.colour(0) is not None


def test_sweeps_are_taken_one_by_one_at_the_desk(own_data: Path) -> None:
    plan = {"instrument": "line", "shots": True, "stops": 8, "title": "by line", "exposure_ms": [10.0]}
    core_door.check_set_up(plan)
    with core_door.turntable_pass("tile", plan, 3, "sweeps", 1) as taking:
        assert isinstance(taking, core_door.ShotsUnderWay) and taking.planned == 8
        assert taking.shoot()["off_mm"] < 0.4
    folder = CaptureFolder(settings.DATA / "captures" / "sweeps")
    assert len(folder.manifest.frames) == 1 and folder.manifest.frames[0].pose is not None
    with pytest.raises(core_door.LucidRelicError, match="nothing to see before"):
        core_door.preview_sight(plan, "tile", {})
