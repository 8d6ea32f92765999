"""Is it enough? Coverage of an object by its placed passes, and what to capture next."""

from collections.abc import Sequence
from copy import copy
from dataclasses import asdict, dataclass, replace
from typing import Any

import numpy as np

from lucid_relic.errors import StepNotPossible
from lucid_relic.geometry.pass_points import pass_points
from lucid_relic.geometry.rigid import inverse, looking_down, transform_points
from lucid_relic.geometry.sight import Sight
from lucid_relic.geometry.spacing import pixel_spacing
from lucid_relic.operations.recipe import Recipe, built_in, run_recipe
from lucid_relic.operations.run import RecipeStep
from lucid_relic.planning.coverage import LEAST_COMMON, Coverage, Enough, coverage_of_pass, covered, never
from lucid_relic.planning.paths import turn_path
from lucid_relic.planning.ways import Pose, Way, eyes_of, lying
from lucid_relic.progress import Progress, part_of
from lucid_relic.types import Instrument, ScanState, TriangleMesh

CELLS_ACROSS, QUICK_CELLS = 110, 80  # voxels of the coarse surface along the object's longest side
# Bridged as it comes: how it bends where nothing was seen tells nothing of what to take next.
CLOSED = (
    RecipeStep("close", {"holes": "all", "follow_curvature": False}),
    RecipeStep("simplify", {"triangles": 30_000}),
)
GRAZING_DEG = 72.0  # beyond which no look is counted on in advance
STOPS, FEW_STOPS = 12, 8  # a good middle, and the fewest for a turn (common practice)
NEARLY_ALL = 0.97  # of a turn's gain that the few stops must bring to be advised
LEAST_GAIN = 0.01
# How an object may be laid for one more turn: words, tip and about which horizontal line.
LAID = (("upright", 0.0, 0.0), ("lying on its front", 90.0, 0.0), ("lying on its back", -90.0, 0.0),
        ("lying on its side", 90.0, 90.0), ("lying on its other side", -90.0, 90.0), ("upside down", 180.0, 0.0))  # fmt: skip
LOOKING_DOWN = (24.0, 55.0)
MOST_NEXTS = 3


@dataclass(frozen=True)
class Lay:
    """How an object lies for a turn: tipped about which horizontal line, and how steeply the head looks down (degrees)."""

    tip_deg: float = 0.0
    about_deg: float = 0.0
    down_deg: float = LOOKING_DOWN[0]


UPRIGHT = Lay()


@dataclass(frozen=True)
class Outlook:
    """What a pass would see: how much it adds (0-1 of the surface), how much of what it sees is known (0-1), and where.

    fresh and shared (n,) bool are the faces of the coarse surface that it makes enough, and those that it would see again;
    R_plate_object (3, 3) turns the object as the surface has it to how it lies on the plate then.
    """

    gain: float
    common: float
    fresh: np.ndarray
    shared: np.ndarray
    lay: Lay
    R_plate_object: np.ndarray


@dataclass(frozen=True)
class Next:
    """One pass to take: fields of `capture`, what it adds (0-1 of the surface) and how much of it is known (0-1).

    start_deg is how far the plate stands turned at the first stop: where most is new comes first.
    """

    kind: str
    words: str
    stops: int
    start_deg: float
    tip_deg: float
    tip_about_deg: float
    elevation_deg: float
    gain: float
    common: float


@dataclass(frozen=True)
class Judged:
    """The coarse surface with its coverage per face (areas in mm²), and what to take next, best first.

    outlooks belongs to nexts; waiting holds what is to be expected of passes that are not placed yet, by their titles.
    """

    mesh: TriangleMesh
    coverage: Coverage
    need: Enough
    areas: np.ndarray
    nexts: tuple[Next, ...] = ()
    outlooks: tuple[Outlook, ...] = ()
    waiting: tuple[tuple[str, Outlook], ...] = ()

    def figures(self) -> dict[str, Any]:
        """As `lucid-relic coverage` tells it."""
        enough, seen = self.coverage.enough(self.need), self.coverage.times > 0
        return {
            "seen_enough": float(self.areas[enough].sum() / self.areas.sum()),
            "thin_cm2": float(self.areas[seen & ~enough].sum() / 100),
            "never_cm2": float(self.areas[~seen].sum() / 100),
            "next": [asdict(one) for one in self.nexts],
        }


def placed_coarsely(state: ScanState, progress: Progress) -> ScanState:
    """Passes placed frame by frame, cut off their stand and put onto each other; what could not be placed stays out."""
    steps = [step for step in built_in("draft").steps if step.operation in ("place_frames", "stand_cut", "find_fit")]
    steps = [
        replace(s, parameters={**s.parameters, "allow_unplaced": True}) if s.operation == "find_fit" else s
        for s in steps
    ]
    return run_recipe(state, Recipe("coverage", "Coverage", "", tuple(steps)), progress, lambda *_: None)


def judge(
    state: ScanState,
    need: Enough,
    sheet: Instrument,
    progress: Progress,
    waiting: Sequence[tuple[str, Lay]] = (),
    first: Lay = UPRIGHT,
) -> Judged:
    """Judge a state whose passes are placed; raises `StepNotPossible` when none is.

    waiting are passes that are not placed yet, with how the object lay for them, when it lay as `first` for the pass that
    holds still. What they are to be expected to have seen is not advised again.
    """
    judged = _judged(state, need, CELLS_ACROSS, CLOSED, part_of(progress, 0.0, 0.9))
    progress(0.9, "What would add most")
    expected = _Expected(judged, sheet, first)
    nexts, outlooks = _nexts(expected, [lay for _, lay in waiting])
    return replace(
        judged,
        nexts=nexts,
        outlooks=outlooks,
        waiting=tuple((title, expected.of(lay)) for title, lay in waiting),
    )


def glance(state: ScanState, need: Enough, progress: Progress) -> Judged:
    """The same of what is seen so far, while a pass is taken: coarser, open where nothing was seen, no advice."""
    return _judged(state, need, QUICK_CELLS, (), progress)


def _judged(state: ScanState, need: Enough, cells: int, then: tuple[RecipeStep, ...], progress: Progress) -> Judged:
    if not state.used_passes():
        raise StepNotPossible("No pass is placed yet, so that nothing can be said of what was seen.")
    coarse = max(_size(state) / cells, 0.05)
    steps = (RecipeStep("fuse", {"voxel_mm": coarse, "character": "draft"}), *then)
    closed = run_recipe(state, Recipe("coverage", "Coverage", "", steps), part_of(progress, 0.0, 0.8), lambda *_: None)
    mesh = closed.mesh
    places, normals = _places(mesh)
    seen = never(len(places))
    for scan in state.used_passes():
        if scan.cloud is None:
            voxel = state.volume.voxel_mm if state.volume is not None else coarse
            seen = seen.joined(coverage_of_pass(places, normals, scan, max(pixel_spacing(scan), voxel)))
    return Judged(mesh, seen, need, np.linalg.norm(mesh.face_normals().astype(np.float64), axis=1) / 2)


def _places(mesh: TriangleMesh) -> tuple[np.ndarray, np.ndarray]:
    """Middles and unit normals (n, 3) float64 of all faces."""
    normals = mesh.face_normals().astype(np.float64)
    return mesh.face_centres().astype(np.float64), normals / np.maximum(
        np.linalg.norm(normals, axis=1, keepdims=True), 1e-12
    )


def _size(state: ScanState) -> float:
    """Longest side (mm) of what the placed passes measured."""
    passes = state.for_surface().used_passes()
    clouds = [pass_points(scan, 4 * pixel_spacing(scan)) for scan in passes]
    placed = [
        transform_points(scan.T_object_pass, cloud.points.astype(np.float64))
        for scan, cloud in zip(passes, clouds, strict=True)
    ]
    return float(np.ptp(np.concatenate(placed), axis=0).max())


class _Expected:
    """What turns would see of a judged surface with an instrument."""

    def __init__(self, judged: Judged, sheet: Instrument, first: Lay) -> None:
        self._places, self._normals = _places(judged.mesh)
        self._judged, self._sheet, self._sight = judged, sheet, Sight(judged.mesh)
        self._middle = self._places.mean(axis=0)
        self._reach = float(np.linalg.norm(self._places - self._middle, axis=1).max())
        self._upright_first = inverse(lying(np.zeros(3), first.tip_deg, first.about_deg))[:3, :3]
        self._before, self._known = judged.coverage, judged.coverage.times > 0

    def behind(self, lays: Sequence[Lay]) -> "_Expected":
        """The same when turns of an object that was laid so were taken besides; what they saw is not known yet."""
        out = copy(self)
        for lay in lays:
            out._before = out._before.joined(self._looks(lay)[1])
        return out

    def of(self, lay: Lay, stops: int = STOPS) -> Outlook:
        """What a turn would see of an object that is laid so."""
        areas, need = self._judged.areas, self._judged.need
        any_seen, looks = self._looks(lay, stops)
        fresh = self._before.joined(looks).enough(need) & ~self._before.enough(need)
        shared = any_seen & self._known
        common = float(areas[shared].sum() / max(areas[any_seen].sum(), 1e-9))
        R = (self._upright_first @ lying(np.zeros(3), lay.tip_deg, lay.about_deg)[:3, :3]).T
        return Outlook(float(areas[fresh].sum() / areas.sum()), common, fresh, shared, lay, R)

    def start_deg(self, lay: Lay, stops: int) -> float:
        """How far the plate is to stand turned at a turn's first stop, so that what was never seen is seen soonest."""
        new = self._seen(self._eyes(lay, stops)) & (self._before.times == 0)
        soon = [
            float((np.logical_or.accumulate(np.roll(new, -k, axis=0)) @ self._judged.areas).sum()) for k in range(stops)
        ]
        return turn_path(stops)[int(np.argmax(soon))].turn_deg

    def _looks(self, lay: Lay, stops: int = STOPS) -> tuple[np.ndarray, Coverage]:
        """Which places (n,) bool a turn sees at all, and how well."""
        eyes = self._eyes(lay, stops)
        seen = self._seen(eyes)
        return np.any(seen, axis=0), covered(self._places, self._normals, seen, eyes)

    def _seen(self, eyes: np.ndarray) -> np.ndarray:
        """(eyes, places) bool: what can be seen from each of some places of the head (n, 3)."""
        return np.stack([self._sight.sees(eye, self._places, self._normals, GRAZING_DEG) for eye in eyes])

    def _eyes(self, lay: Lay, stops: int) -> np.ndarray:
        """(n, 3) places of the head for a turn, in the frame of the pass that holds still."""
        head = looking_down(self._sheet.distance_for(self._reach), lay.down_deg)
        eyes, _ = eyes_of(Way("", (Pose(lay.tip_deg, turn_path(stops), lay.about_deg),)), head, np.zeros(3), 0.0)
        return eyes @ self._upright_first.T + self._middle


def _nexts(expected: _Expected, waiting: Sequence[Lay]) -> tuple[tuple[Next, ...], tuple[Outlook, ...]]:
    """The passes that would add most and can be held by what is known, best first, with what they would see.

    How the object lies for passes that wait is not advised again: another way may be what places them.
    """
    ways = [(words, Lay(tip, about, down)) for words, tip, about in LAID for down in LOOKING_DOWN]
    ways = [(words, lay) for words, lay in ways if lay not in waiting]
    behind = expected.behind(waiting)
    best = _worth_it(behind, ways) or _worth_it(expected, ways)
    return tuple(n for n, _ in best), tuple(o for _, o in best)


def _worth_it(expected: _Expected, ways: list[tuple[str, Lay]]) -> list[tuple[Next, Outlook]]:
    """Those ways that gain something and can be held, best first, in few stops where these see nearly as much."""
    told = [(words, expected.of(lay)) for words, lay in ways]
    able = [(words, o) for words, o in told if o.gain >= LEAST_GAIN and o.common >= LEAST_COMMON]
    best = sorted(able, key=lambda pair: -pair[1].gain)[:MOST_NEXTS]
    return sorted((_turn(expected, words, o) for words, o in best), key=lambda pair: -pair[0].gain)


def _turn(expected: _Expected, words: str, outlook: Outlook) -> tuple[Next, Outlook]:
    """A way as a pass to take."""
    lay, few = outlook.lay, expected.of(outlook.lay, FEW_STOPS)
    enough = few.gain >= NEARLY_ALL * outlook.gain and few.common >= LEAST_COMMON
    told, stops = (few, FEW_STOPS) if enough else (outlook, STOPS)
    said = f"a turn {words}, looking down {lay.down_deg:g}°"
    start = expected.start_deg(lay, stops)
    return Next("table", said, stops, start, lay.tip_deg, lay.about_deg, lay.down_deg, told.gain, told.common), told
