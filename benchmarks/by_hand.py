"""A hand that places passes and marks points: how exact it gets, how often it is refused, how soon one sees it."""

import time

import numpy as np
from clouds import part
from hard_objects import cgal_mesh
from scanned import npm_mesh
from scipy.spatial import cKDTree
from scipy.spatial.transform import Rotation

from lucid_relic.alignment.by_hand import (
    Believed,
    believed_threads,
    left_threads,
    placed_by_hand,
    reach_of_threads,
    sharpened,
    turns_about,
)
from lucid_relic.alignment.fit_result import Side
from lucid_relic.demo.objects import demo_model
from lucid_relic.geometry.measured import sampled
from lucid_relic.geometry.points import extent_mm, thin
from lucid_relic.geometry.rigid import difference, inverse, transform_points
from lucid_relic.operations.shown import ShownPoints
from lucid_relic.types import BallStroke, Marks, PointCloud, ScreenStroke, TriangleMesh, View
from lucid_relic.view.pass_view import NO_RIMS, PassView

Lines = list[str]
PAIRS = 30
SPACING_MM = 0.5
SNAP_DEG, SNAP_MM = 15.0, 10.0
ROUNDS = 20
POINTS = 1_000_000


def _meshes() -> list[tuple[str, TriangleMesh]]:
    stamp = demo_model("stamp").mesh
    return [
        ("dragon", npm_mesh("dragon")),
        ("bunny", npm_mesh("bunny")),
        ("stamp", stamp),
        ("elephant", cgal_mesh("elephant")),
    ]


def _unit(rng: np.random.Generator) -> np.ndarray:
    v = rng.normal(size=3)
    return v / np.linalg.norm(v)


def _motion(rng: np.random.Generator, degrees: float, shift: float, middle: np.ndarray) -> np.ndarray:
    out = np.eye(4)
    out[:3, :3] = Rotation.from_rotvec(np.radians(degrees) * _unit(rng)).as_matrix()
    out[:3, 3] = middle - out[:3, :3] @ middle + shift * _unit(rng)
    return out


def _side(mesh: TriangleMesh, way: np.ndarray) -> PointCloud:
    return thin(sampled(part(mesh, way)), SPACING_MM)


def _pairs(rng: np.random.Generator):
    """(name, fixed, moving, true motion, common points as pairs of indices) of random parts with a third in common or more."""
    meshes = _meshes()
    made = 0
    while made < PAIRS:
        name, mesh = meshes[made % len(meshes)]
        a = _unit(rng)
        b = a + 0.9 * _unit(rng)
        fixed, there = _side(mesh, a), _side(mesh, b / np.linalg.norm(b))
        away, near = cKDTree(fixed.points).query(there.points)
        if (away < SPACING_MM).mean() < 1 / 3:
            continue
        true = _motion(rng, rng.uniform(20, 180), rng.uniform(0, 80), np.zeros(3))
        made += 1
        yield name, fixed, there.transformed(inverse(true)), true, (np.flatnonzero(away < SPACING_MM), near)


def _tied(
    rng, fixed: PointCloud, moving: PointCloud, true: np.ndarray, common, count: int
) -> tuple[np.ndarray, np.ndarray]:
    """Spots far from each other, picked 1-2 mm off on both sides along the surface or off it."""
    both, near = common
    placed = transform_points(true, moving.points.astype(np.float64))
    chosen = [both[rng.integers(len(both))]]
    while len(chosen) < count:
        far = np.linalg.norm(placed[both][:, None] - placed[chosen][None], axis=2).min(axis=1)
        chosen.append(both[rng.choice(np.flatnonzero(far > 0.6 * far.max()))])
    slip = lambda: np.array([rng.uniform(1, 2) * _unit(rng) for _ in chosen])  # noqa: E731
    return fixed.points[near[chosen]] + slip(), moving.points[chosen] + slip()


def threads() -> Lines:
    """Random parts placed by three threads, by four with one wrong, and by dragging; clicks answered by a counterpart."""
    rng = np.random.default_rng(12)
    exact, named, exact_of_four, near, clicks, right, wrong, snaps, seconds = 0, 0, 0, 0, 0, 0, 0, 0, []
    worst = [0.0, 0.0]
    for _, fixed, moving, true, common in _pairs(rng):
        size = extent_mm(moving)
        sides = [Side(fixed)], Side(moving)

        def placed(f: np.ndarray, m: np.ndarray, size: float = size, sides=sides) -> tuple[np.ndarray, Believed, str]:
            believed = believed_threads(f, m, size)
            start = sharpened(sides[0][0].cloud, sides[1].cloud, believed, (f, m), size, SPACING_MM)
            fit = placed_by_hand(*sides, [start], reach_of_threads(believed, size), SPACING_MM)
            return fit.T_fixed_moving, believed, fit.against or left_threads(believed, fit, f, m, size)

        f, m = _tied(rng, fixed, moving, true, common, 3)
        began = time.perf_counter()
        motion, _, against = placed(f, m)
        seconds.append(time.perf_counter() - began)
        turned, shifted = _off(motion, true, moving)
        worst = [max(worst[0], turned), max(worst[1], shifted)]
        exact += turned <= 0.05 and shifted <= 0.05 and not against
        spots = rng.choice(common[0], 20)
        answer = cKDTree(moving.points).query(transform_points(inverse(motion), fixed.points[common[1][spots]]))[1]
        near += int((np.linalg.norm(moving.points[answer] - moving.points[spots], axis=1) <= 1.5).sum())
        clicks += len(spots)
        f, m = _tied(rng, fixed, moving, true, common, 4)
        m[rng.integers(4)] += 20 * _unit(rng)
        motion, believed, against = placed(f, m)
        turned, shifted = _off(motion, true, moving)
        named += int((~believed.used).sum()) == 1
        exact_of_four += turned <= 0.05 and shifted <= 0.05 and not against
        middle = transform_points(true, moving.points).mean(axis=0)
        start = _motion(rng, rng.uniform(0, SNAP_DEG), rng.uniform(0, SNAP_MM), middle) @ true
        fit = placed_by_hand(*sides, turns_about(start, moving), 0.1 * size, SPACING_MM)
        turned, shifted = _off(fit.T_fixed_moving, true, moving)
        snaps += 1
        if turned <= 0.1 and shifted <= 0.1:
            right += not fit.against
        else:
            wrong += not fit.against
    return [
        "## Placed by hand",
        "",
        f"{PAIRS} random pairs of parts of dragon, bunny, stamp and elephant (of `libcgal-demo`, whose kitten has no faces), a third in common or more, points "
        f"{SPACING_MM} mm apart; spots picked 1-2 mm off on both sides.",
        "",
        "| what | figure | wanted |",
        "|---|---|---|",
        f"| three threads: within 0.05° and 0.05 mm | {exact} of {PAIRS} (worst {worst[0]:.3f}°, {worst[1]:.3f} mm) | all |",
        f"| one of four wrong by 20 mm: named alone | {named} of {PAIRS} | all |",
        f"| and placed within 0.05° and 0.05 mm | {exact_of_four} of {PAIRS} | all |",
        f"| a click's counterpart within 1.5 mm | {near / clicks:.0%} of {clicks} | 80 % |",
        f"| dragged up to {SNAP_DEG:.0f}° and {SNAP_MM:.0f} mm off: snaps right | {right} of {snaps} | 90 % |",
        f"| snaps wrong and is not refused | {wrong} of {snaps} | none |",
        f"| seconds for three threads, median | {np.median(seconds):.1f} | |",
    ]


def _off(motion: np.ndarray, true: np.ndarray, moving: PointCloud) -> tuple[float, float]:
    """Degrees, and mm at the middle of the moving points."""
    middle = moving.points.mean(axis=0, dtype=np.float64)[None]
    turned, _ = difference(motion, true)
    return turned, float(np.linalg.norm(transform_points(motion, middle) - transform_points(true, middle)))


def marks() -> Lines:
    """Time until strokes on a million shown points are counted exactly, on a state that is held open."""
    cloud = sampled(npm_mesh("dragon"))
    rng = np.random.default_rng(2)
    every = rng.choice(len(cloud), POINTS)
    jitter = rng.normal(0, 0.1, (POINTS, 3)).astype(np.float32)
    views = []
    for part_of in np.array_split(np.arange(POINTS), 3):
        own = every[part_of]
        points = PointCloud(cloud.points[own] + jitter[part_of], cloud.normals[own])
        n = len(own)
        views.append(PassView(points, *(np.ones(n, np.int64),) * 5, NO_RIMS))
    shown = ShownPoints(("a", "b", "c"), tuple(views))
    view = View(((1, 0, 0, 0), (0, 0, -1, 40), (0, 1, 0, 330), (0, 0, 0, 1)), 30.0, 725, 590)
    angle = np.sort(rng.uniform(0, 2 * np.pi, 60))

    def lasso(through: bool) -> ScreenStroke:
        middle = rng.uniform([300, 250], [420, 350])
        points = middle + 120 * rng.uniform(0.8, 1.2, 60)[:, None] * np.column_stack([np.cos(angle), np.sin(angle)])
        return ScreenStroke("lasso", tuple(map(tuple, points.tolist())), view, through=through)

    kinds = {
        "lasso through": lambda: lasso(True),
        "lasso, what is seen": lambda: lasso(False),
        "ball": lambda: BallStroke(tuple(map(tuple, rng.uniform(-20, 20, (8, 3)).tolist())), 6.0),
    }
    shown.counted(shown.marked(Marks((lasso(False), kinds["ball"]()))))
    rows = []
    for name, stroke in kinds.items():
        times = []
        for _ in range(ROUNDS):
            drawn = Marks((stroke(),))
            began = time.perf_counter()
            shown.counted(shown.marked(drawn))
            times.append(1000 * (time.perf_counter() - began))
        rows.append(f"| {name} | {np.median(times):.0f} | {max(times):.0f} |")
    return [
        "## Marking a million points", "", "Counted on the server, exactly; wanted: 300 ms.", "",
        "| stroke | median ms | worst of 20 |", "|---|---|---|", *rows,
    ]  # fmt: skip


def by_hand() -> Lines:
    """Both, as one section."""
    return [*marks(), "", *threads()]
