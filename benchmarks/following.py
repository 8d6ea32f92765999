"""Following what coverage suggests on the table, beside three fixed paths: frames until 95 % of what can be seen is."""

import tempfile
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import numpy as np
from hard import SMALL
from scanned import npm_mesh, written

from lucid_relic.capture.instruments import instrument
from lucid_relic.capture.model import ScanModel
from lucid_relic.capture.virtual import TurntablePlan, VirtualScanner
from lucid_relic.demo.objects import demo_model
from lucid_relic.desk.coverage import GRAZING_DEG, judge, placed_coarsely
from lucid_relic.geometry.sight import Sight
from lucid_relic.io.capture_folder import CaptureFolder
from lucid_relic.planning.coverage import enough_for
from lucid_relic.progress import silent
from lucid_relic.types import ScanState, TriangleMesh

Lines = list[str]
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

    def scanner(self, way: tuple[float, float, float], stops: int = STOPS, seed: int = 0) -> VirtualScanner:
        """A turn with the object laid so."""
        tip, about, down = way
        plan = TurntablePlan(stops=stops, tip_deg=tip, tip_about_deg=about, elevation_deg=down, title=f"turn {seed}")
        return VirtualScanner(self.model, plan, SMALL, 80 + seed)

    def looks(self, scanner: VirtualScanner) -> Iterator[np.ndarray]:
        """(n,) bool of the places, frame by frame, that one sees."""
        for pose in scanner.truth_poses():
            yield self._sight.sees(pose[:3, 3], self._places, self._normals, GRAZING_DEG)

    def until(self, turns: Iterator[VirtualScanner]) -> tuple[int | None, float]:
        """Frames until the wanted share of what can be reached is seen, None when it never is; and the share at the end."""
        seen = np.zeros(PLACES, bool)
        frames = 0
        for scanner in turns:
            for look in self.looks(scanner):
                seen |= look
                frames += 1
                if self._share(seen) >= WANTED:
                    return frames, self._share(seen)
            if frames >= MOST_FRAMES:
                break
        return None, self._share(seen)

    def _share(self, seen: np.ndarray) -> float:
        return float((seen & self.reachable).sum() / self.reachable.sum())

    def suggested(self, folder: Path) -> Iterator[VirtualScanner]:
        """An upright turn, then whatever is suggested by what the turns so far measured."""
        way: tuple[float, float, float] = (0, 0, 24)
        state = ScanState()
        for n in range(MOST_FRAMES // STOPS):
            scanner = self.scanner(way, seed=n)
            yield scanner
            taken = CaptureFolder(written(folder / str(n), scanner)).as_pass()
            state = placed_coarsely(replace(state, passes=(*state.passes, taken)), silent)
            judged = judge(state, enough_for("print"), instrument("desk"), silent)
            if not judged.nexts:
                return
            best = judged.nexts[0]
            way = (best.tip_deg, best.tip_about_deg, best.elevation_deg)


def following() -> Lines:
    """Frames until nearly all is seen."""
    meshes = {name: demo_model(name).mesh for name in ("owl", "stamp", "bell", "lamp", "fender")}
    meshes |= {name: npm_mesh(name) for name in ("dragon", "bunny")}
    rows, held = [], 0
    for name, mesh in meshes.items():
        watched = Watched(mesh)
        with tempfile.TemporaryDirectory() as scratch:
            ours, share = watched.until(watched.suggested(Path(scratch)))
        fixed = {
            words: watched.until(watched.scanner(way, seed=n) for n, way in enumerate(ways))[0]
            for words, ways in FIXED.items()
        }
        best = min((f for f in fixed.values() if f), default=None)
        held += bool(ours and (best is None or ours <= best))
        told = " | ".join(str(f or "never") for f in fixed.values())
        rows.append(f"| {name} | {ours or 'never'} | {share:.1%} | {told} |")
    return [
        "## Following what coverage suggests",
        "",
        f"Turns of {STOPS} stops at 320×240: frames until {WANTED:.0%} of what any such turn can see is seen at least once; first an "
        "upright turn, then each time the best suggestion, beside three fixed orders.",
        "",
        f"| object | by suggestion | seen | {' | '.join(FIXED)} |",
        f"|---|---|---|{'---|' * len(FIXED)}",
        *rows,
        "",
        f"{held} of {len(meshes)} with no more frames than the best of the three.",
    ]
