"""Following what coverage suggests on the table, beside three fixed paths: frames until 95 % of what can be seen is."""

import tempfile
from collections.abc import Iterator
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
from hard import SMALL
from scanned import npm_mesh, written

from lucid_relic.capture.instruments import instrument
from lucid_relic.capture.model import ScanModel
from lucid_relic.capture.virtual import TurntablePlan, VirtualScanner
from lucid_relic.demo.objects import demo_model
from lucid_relic.desk.coverage import GRAZING_DEG, Lay, judge, placed_coarsely
from lucid_relic.geometry.sight import Sight
from lucid_relic.io.capture_folder import CaptureFolder
from lucid_relic.planning.coverage import enough_for
from lucid_relic.progress import silent
from lucid_relic.types import ScanState, TriangleMesh

Lines = list[str]
# A lamp of 400 mm fills the picture from a metre away.
FAR = replace(SMALL, band_mm=(220.0, 1600.0), depth_unit_mm=0.025)
WANTED = 0.95
PLACES = 20_000
MOST_FRAMES = 96
STOPS = 12
# How an object is laid and looked at, turn by turn, where nothing is suggested: tip, about, looking down (degrees).
FIXED = {
    "front, back, head": ((0, 0, 24), (90, 0, 24), (-90, 0, 24), (180, 0, 24), (90, 90, 24), (-90, 90, 24)),
    "two heights": ((0, 0, 24), (0, 0, 55), (180, 0, 24), (180, 0, 55), (90, 0, 24), (-90, 0, 24)),
    "two sides": ((0, 0, 24), (180, 0, 24), (90, 90, 24), (-90, 90, 24), (90, 0, 24), (-90, 0, 24)),
}


@dataclass(frozen=True, order=True)
class Reached:
    """After how many passes, the last of them begun, and how many frames."""

    passes: int
    frames: int

    def __str__(self) -> str:
        return f"{self.passes} ({self.frames})"


class Watched:
    """A model and which of its places are seen: the truth, which only the judge knows."""

    def __init__(self, mesh: TriangleMesh) -> None:
        self.model, self._sight = ScanModel.plain(mesh), Sight(mesh)
        rng = np.random.default_rng(3)
        normals = mesh.face_normals().astype(np.float64)
        areas = np.linalg.norm(normals, axis=1)
        chosen = rng.choice(len(areas), PLACES, p=areas / areas.sum())
        self._places = mesh.face_centres()[chosen].astype(np.float64)
        self._normals = normals[chosen] / areas[chosen, None]
        ways = [(tip, about, down) for tip, about, _ in FIXED["front, back, head"] for down in (10, 24, 40, 55)]
        looks = [self.looks(self.scanner(way, 24)) for way in ways]
        self.reachable = np.any([np.any(list(look), axis=0) for look in looks], axis=0)

    def scanner(
        self, way: tuple[float, float, float], stops: int = STOPS, seed: int = 0, start_deg: float = 0.0
    ) -> VirtualScanner:
        """A turn with the object laid so."""
        tip, about, down = way
        plan = TurntablePlan(
            stops=stops, tip_deg=tip, tip_about_deg=about, elevation_deg=down, start_deg=start_deg, title=f"turn {seed}"
        )
        return VirtualScanner(self.model, plan, FAR, 80 + seed)

    def looks(self, scanner: VirtualScanner) -> Iterator[np.ndarray]:
        """(n,) bool of the places, frame by frame, that one sees."""
        for pose in scanner.truth_poses():
            yield self._sight.sees(pose[:3, 3], self._places, self._normals, GRAZING_DEG)

    def until(self, turns: Iterator[VirtualScanner]) -> Reached | None:
        """When the wanted share of what can be reached is seen; None when it never is."""
        seen = np.zeros(PLACES, bool)
        frames = 0
        for passes, scanner in enumerate(turns, 1):
            for look in self.looks(scanner):
                seen |= look
                frames += 1
                if (seen & self.reachable).sum() >= WANTED * self.reachable.sum():
                    return Reached(passes, frames)
            if frames >= MOST_FRAMES:
                break
        return None

    def suggested(self, folder: Path) -> Iterator[VirtualScanner]:
        """An upright turn, then whatever is suggested by what the turns so far measured."""
        way, stops, start = (0.0, 0.0, 24.0), STOPS, 0.0
        state, lays = ScanState(), list[Lay]()
        for n in range(MOST_FRAMES // STOPS):
            scanner = self.scanner(way, stops, n, start)
            yield scanner
            taken = CaptureFolder(written(folder / str(n), scanner)).as_pass()
            lays.append(Lay(*way))
            state = placed_coarsely(replace(state, passes=(*state.passes, taken)), silent)
            waiting = [(scan.title, lay) for scan, lay in zip(state.passes, lays, strict=True) if not scan.placed]
            judged = judge(state, enough_for("print"), instrument("desk"), silent, waiting)
            if not judged.nexts:
                return
            best = judged.nexts[0]
            way, stops = (best.tip_deg, best.tip_about_deg, best.elevation_deg), best.stops
            start = best.start_deg


def following() -> Lines:
    """Frames until nearly all is seen."""
    meshes = {name: demo_model(name).mesh for name in ("owl", "stamp", "bell", "lamp", "fender")}
    meshes |= {name: npm_mesh(name) for name in ("dragon", "bunny")}
    rows, fewest_passes, fewest_frames = [], 0, 0
    for name, mesh in meshes.items():
        watched = Watched(mesh)
        with tempfile.TemporaryDirectory() as scratch:
            ours = watched.until(watched.suggested(Path(scratch)))
        fixed = [watched.until(watched.scanner(way, seed=n) for n, way in enumerate(ways)) for ways in FIXED.values()]
        reached = [f for f in fixed if f]
        fewest_passes += bool(ours and ours.passes <= min((f.passes for f in reached), default=ours.passes))
        fewest_frames += bool(ours and ours.frames <= min((f.frames for f in reached), default=ours.frames))
        rows.append(f"| {name} | {ours or 'never'} | {' | '.join(str(f or 'never') for f in fixed)} |")
    return [
        "## Following what coverage suggests",
        "",
        f"Passes, and in brackets frames, until {WANTED:.0%} of what any turn can see is seen at least once, at 320×240: first an "
        f"upright turn of {STOPS} stops, then each time the best suggestion, beside three fixed orders of such turns.",
        "",
        f"| object | by suggestion | {' | '.join(FIXED)} |",
        f"|---|---|{'---|' * len(FIXED)}",
        *rows,
        "",
        f"With no more passes than the best of the three {fewest_passes} of {len(meshes)}, with no more frames {fewest_frames} of {len(meshes)}.",
    ]
