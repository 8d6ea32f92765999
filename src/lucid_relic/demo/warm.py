"""Making the compiled loops before anybody waits for them: `python -m lucid_relic.demo.warm`.

A new machine, or new code, compiles every loop the first time it is used, two minutes in all. This runs all
operations once over a small made-up capture, so that the first job does not; when it has been done it does nothing.
"""

import os
import sys
import tempfile
import time
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from lucid_relic.capture.device import PlannedDevice
from lucid_relic.capture.hand import HandPlan, VirtualHandScanner
from lucid_relic.capture.instruments import INSTRUMENTS
from lucid_relic.capture.model import ScanModel
from lucid_relic.capture.traits import ScannerTraits
from lucid_relic.capture.virtual import TurntablePlan, VirtualScanner
from lucid_relic.demo.shapes import box, capsule, mesh_of, smooth_union, sphere
from lucid_relic.desk.hand_desk import HandDesk
from lucid_relic.geometry.measured import Given, measured_cloud
from lucid_relic.io.capture_folder import CaptureFolder
from lucid_relic.io.capture_writer import CaptureWriter
from lucid_relic.io.points_folder import PointsFolder, write_points_folder
from lucid_relic.operations import get_operation
from lucid_relic.operations.recipe import Recipe, built_in, run_recipe
from lucid_relic.operations.run import RecipeStep
from lucid_relic.planning.coverage import enough_for
from lucid_relic.progress import Progress, part_of, silent
from lucid_relic.types import BallStroke, Marks, PassState, PointCloud, ScanState, ScreenStroke, TriangleMesh, View

DONE = "all-made"  # a file beside the loops: it goes with them when the code changes
HEAD = ScannerTraits(width=200, height=150, focal_px=270.0)
VOXEL_MM = 1.6
LOOK = View(((1, 0, 0, 0), (0, 0, -1, 30), (0, 1, 0, 300), (0, 0, 0, 1)), 30.0, 320, 240)
MORE = ("gather_points", "remesh")


def warm(progress: Progress = silent) -> bool:
    """Make all loops that are not there yet; false when there were none to make."""
    done = Path(os.environ["NUMBA_CACHE_DIR"]) / DONE
    if done.exists():
        return False
    with tempfile.TemporaryDirectory() as folder:
        _run_all(Path(folder), progress)
    done.parent.mkdir(parents=True, exist_ok=True)
    done.touch()
    return True


def _run_all(folder: Path, progress: Progress) -> None:
    """Every operation of the recipes, and those beside them, over two passes from a table, one by hand and two of points."""
    model = ScanModel.plain(mesh_of(_knob, (-40, -40, -2), (50, 40, 62), 1.2))
    plans = TurntablePlan(stops=10), TurntablePlan(stops=10, tip_deg=90.0, title="tipped")
    table = [_captured(folder / plan.title, VirtualScanner(model, plan, HEAD, 3)) for plan in plans]
    hand = _captured(folder / "hand", VirtualHandScanner(model, HandPlan(frames=6, turns=0.1), HEAD, 3))
    state = run_recipe(ScanState(tuple(table)), _quick("print"), part_of(progress, 0.0, 0.6), lambda *_: None)
    for k, name in enumerate(MORE):
        progress(0.6 + 0.1 * k, "Making loops")
        step = get_operation(name)
        state, _ = step.run(state, step.parameters(), silent)
    get_operation("place_frames").run(
        ScanState((hand,)), get_operation("place_frames").parameters(), part_of(progress, 0.8, 0.9)
    )
    _followed(hand)
    _marked(state)
    run_recipe(ScanState(tuple(table)), _quick("cad"), part_of(progress, 0.9, 0.95), lambda *_: None)
    points = [_came(folder / name, model.mesh, eye) for name, eye in (("bare", None), ("seen", (0.0, -300.0, 60.0)))]
    run_recipe(ScanState(tuple(points)), _quick("points"), part_of(progress, 0.95, 1.0), lambda *_: None)


def _followed(scan: PassState) -> None:
    """A pass by hand followed live: with a loss, a find, and all that is shown of it."""
    read = lambda i: (scan.source.depth(i), scan.source.colour(i))  # noqa: E731
    desk = HandDesk(replace(INSTRUMENTS["hand"], camera=scan.camera), read, enough_for("print"))
    for index in range(scan.frame_count):
        desk.take(index, *read(index))
    desk.take(scan.frame_count, np.zeros_like(read(0)[0]), None)
    desk.take(scan.frame_count + 1, *read(2))
    desk.mesh_shown()


def _marked(state: ScanState) -> None:
    """Strokes of every shape, as they are shown, and what the cards of cleaning show before anything goes."""
    corners = ((100.0, 80.0), (200.0, 90.0), (160.0, 180.0))
    strokes = (
        ScreenStroke("lasso", corners, LOOK), ScreenStroke("brush", corners, LOOK, radius_px=8.0, through=True),
        BallStroke(((0.0, 0.0, 20.0),), 8.0),
    )  # fmt: skip
    for name, values in (("take_away", {"marks": Marks(strokes)}), ("trim_fuzz", {})):
        step = get_operation(name)
        step.preview(state, step.parameters.from_dict(values))


def _quick(name: str) -> Recipe:
    """A recipe that is built in, over few voxels and texels, whatever comes of its fit."""
    steps: dict[str, dict[str, Any]] = {
        "fuse": {"voxel_mm": VOXEL_MM}, "simplify": {"triangles": 4000}, "lay_colour": {"size": 512},
        "find_fit": {"allow_unplaced": True},
    }  # fmt: skip
    recipe = _OF_POINTS if name == _OF_POINTS.name else built_in(name)
    own = [RecipeStep(s.operation, {**s.parameters, **steps.get(s.operation, {})}) for s in recipe.steps]
    return Recipe(recipe.name, recipe.title, recipe.help, tuple(own))


_OF_POINTS = Recipe("points", "", "", tuple(RecipeStep(n, {}) for n in ("settle", "trim_fuzz", "fuse", "close")))


def _came(folder: Path, mesh: TriangleMesh, eye: tuple[float, float, float] | None) -> PassState:
    """The points of a mesh as a device would give them: bare, and where it stood if it knows."""
    given = Given("mm", "said", None if eye is None else np.array(eye))
    cloud, noise = measured_cloud(PointCloud(mesh.vertices), given, folder.name)
    write_points_folder(folder, folder.name, cloud, noise, np.zeros(3))
    return replace(PointsFolder(folder).as_pass(), placed=True)


def _captured(folder: Path, scanner: PlannedDevice) -> PassState:
    writer = CaptureWriter(folder, scanner.manifest())
    for index in range(scanner.frame_count()):
        shot = scanner.shoot(index)
        writer.add(shot.depth, shot.colour, **shot.fields)
    writer.finish()
    return CaptureFolder(folder).as_pass()


def _knob(p: np.ndarray) -> np.ndarray:
    """A block with a ball on a bent arm: no side like another."""
    d = smooth_union(box(p, (0, 0, 12), (30, 18, 12), 3), capsule(p, (12, 6, 20), (32, -8, 44), 7, 5), 3)
    return smooth_union(d, sphere(p, (-16, 4, 28), 11), 4)


def main() -> None:
    """Tell on a terminal what is done and how far it is."""
    begun = time.monotonic()
    told = [""]

    def say(fraction: float, message: str) -> None:
        text = f"\rMaking compiled loops, once after each update: {fraction:4.0%} "
        if text != told[0]:
            told[0] = text
            sys.stderr.write(text)
            sys.stderr.flush()

    if warm(say):
        sys.stderr.write(f"\rCompiled loops made in {time.monotonic() - begun:.0f} s.                       \n")


if __name__ == "__main__":
    main()
