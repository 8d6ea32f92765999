"""Line sweeps: taken with the stand-in sweep by sweep, and folders of pictures that came in."""

import zipfile
from pathlib import Path, PurePosixPath
from typing import Any

from lucid_relic.calibration.corner import LEFT, RIGHT, corner_of
from lucid_relic.capture.device import Shot
from lucid_relic.capture.instruments import instrument
from lucid_relic.capture.line_laser import BOARD_PX_PER_MM, LineLaser, SweepPlan
from lucid_relic.demo.objects import demo_model
from lucid_relic.desk.sweeps import capture_of_sweeps, manifest_of
from lucid_relic.io.capture_archive import names_inside, unpack
from lucid_relic.io.sweep_folder import SWEEP_NAME, open_sweeps
from lucid_relic.progress import Progress, part_of
from lucid_relic.triangulation.sweep import Corner, depth_of_sweep

IMAGES = (".png", ".jpg", ".jpeg")
PICTURES = 120  # of one sweep


class SweepDevice:
    """A `PlannedDevice` of sweeps: each is rendered as pictures, and its depth worked out from them."""

    def __init__(self, model_name: str, plan: dict[str, Any], seed: int) -> None:
        sheet = instrument(plan["instrument"])
        boards = (LEFT.picture(BOARD_PX_PER_MM), RIGHT.picture(BOARD_PX_PER_MM))
        sweeps = SweepPlan(
            sweeps=plan.get("stops", SweepPlan.sweeps), pictures=PICTURES, tip_deg=plan.get("tip_deg", 0.0)
        )
        self._laser = LineLaser(demo_model(model_name), sweeps, sheet.camera, boards, seed)
        camera, walls = corner_of(self._laser.corner_picture(), (LEFT, RIGHT), sheet.camera)
        self._corner = Corner(camera, walls)
        self.camera = camera
        self._plan = plan
        self._count = sweeps.sweeps

    def manifest(self) -> dict[str, Any]:
        """As of a pass of sweeps."""
        return manifest_of(self._plan["title"], self._corner)

    def frame_count(self) -> int:
        return self._count

    def shoot(self, index: int) -> Shot:
        """Sweep the line over the object once; raises `StepNotPossible` when it is not read on the walls."""
        pictures = list(self._laser.pictures(index))
        depth, told = depth_of_sweep(len(pictures), pictures.__getitem__, self._corner, f"sweep {index + 1}", index)
        fields = {"time_s": float(index), "pictures": told.read, "off_mm": round(told.off_mm, 4)}
        return Shot(depth, self._laser.photograph(index), 0.0, fields)


def is_sweeps(path: Path) -> bool:
    """Whether a file that came in is a .zip of a folder of line sweeps."""
    return path.suffix.lower() == ".zip" and any(PurePosixPath(n).name == SWEEP_NAME for n in names_inside(path))


def sweeps_arrive(path: Path, into: Path, progress: Progress) -> Path:
    """The capture folder of a .zip of line sweeps; raises `InputError` or `StepNotPossible` in words."""
    inner = into / "pictures"
    unpack(path, inner, _pictures, part_of(progress, 0.0, 0.2))
    folder = min((p.parent for p in inner.rglob(SWEEP_NAME)), key=lambda p: len(p.parts))
    capture_of_sweeps(open_sweeps(folder), into / "0", part_of(progress, 0.2, 1.0))
    return into / "0"


def _pictures(name: str, bundle: zipfile.ZipFile) -> dict[str, zipfile.ZipInfo]:
    return {
        e.filename: e for e in bundle.infolist()
        if not e.is_dir() and (e.filename.lower().endswith(IMAGES) or PurePosixPath(e.filename).name == SWEEP_NAME)
    }  # fmt: skip
