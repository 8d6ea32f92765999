"""Sheets that go on past what was measured: against the shapes' own equations, and in patches of meshes."""

import numpy as np
import pytest

from lucid_relic.fusion import patches, walls
from lucid_relic.fusion.continued import continued
from lucid_relic.fusion.patches import fair_patches
from lucid_relic.progress import silent
from lucid_relic.types import ScanState, TriangleMesh

NOISE_MM = 0.03


def around(count: int, seed: int) -> tuple[np.ndarray, np.ndarray]:
    """Random turns (n,) of most of a round, and heights (n,) of 0-1."""
    rng = np.random.default_rng(seed)
    return rng.uniform(0.6, 2 * np.pi - 0.6, count), rng.random(count)


def noisy(points: np.ndarray, seed: int = 5) -> np.ndarray:
    return points + np.random.default_rng(seed).normal(size=points.shape) * NOISE_MM


def ring(turn: np.ndarray, radius: np.ndarray | float, height: np.ndarray | float) -> np.ndarray:
    return np.stack(np.broadcast_arrays(radius * np.cos(turn), radius * np.sin(turn), height), axis=1)


def test_a_cone_goes_on_as_a_cone() -> None:
    turn, h = around(3000, 1)
    slant = np.sqrt(1 + 0.3**2)
    points = ring(turn, 10 + 0.3 * 20 * h, 20 * h)
    normals = ring(turn, 1 / slant, -0.3 / slant)
    found = continued(noisy(points), normals, 0.15)
    assert found is not None and len(found.sheets) == 1 and found.covered > 0.99
    # Where nothing was measured: around turn 0, and 10 mm farther up.
    unseen = ring(np.linspace(-0.5, 0.5, 50), 10 + 0.3 * 25, 25.0)
    away, outward = found.at(unseen)
    assert np.abs(away).max() < 0.1
    assert (outward[:, 0] > 0.8).all(), "without is away from the axis"
    assert (found.at(unseen * [1.2, 1.2, 1.0])[0] > 0).all()


def step_in_a_bore(count: int, turned: tuple[float, float], seed: int) -> tuple[np.ndarray, np.ndarray]:
    """A bore of 12 mm that widens to 16 mm above a step at 10 mm, within some turns: places and normals, which face the axis."""
    rng = np.random.default_rng(seed)
    turn = rng.uniform(*turned, count)
    h = rng.random(count)
    narrow, step = h < 0.45, (h >= 0.45) & (h < 0.6)
    radius = np.where(narrow, 12.0, np.where(step, 12 + 4 * (h - 0.45) / 0.15, 16.0))
    height = np.where(narrow, 10 * h / 0.45, np.where(step, 10.0, 10 + 10 * (h - 0.6) / 0.4))
    normals = ring(turn, np.where(step, 0.0, -1.0), np.where(step, 1.0, 0.0))
    return ring(turn, radius, height), normals


def test_a_step_in_a_bore_goes_on_with_both_its_edges() -> None:
    points, normals = step_in_a_bore(4000, (0.8, 5.6), 2)
    found = continued(noisy(points), normals, 0.15)
    assert found is not None and len(found.sheets) == 3
    unseen, _ = step_in_a_bore(500, (-0.6, 0.6), 3)
    assert np.abs(found.at(unseen)[0]).max() < 0.15
    # One edge of the step is convex, the other hollow; from 0.5 mm off it comes back to the same walls.
    assert sorted(found.hollow) == [False, True]
    off = unseen + ring(np.zeros(1), 0.4, 0.3)
    assert np.abs(found.at(found.onto(off, 1.0))[0]).max() < 1e-3


def test_what_is_no_few_sheets_is_not_gone_on_with() -> None:
    turn, h = around(3000, 4)
    # A wall that waves four times around and is nowhere a quadric.
    radius = 12 + 1.5 * np.sin(4 * turn) * np.cos(6 * h)
    normals = ring(turn, 1.0, 0.0)
    assert continued(ring(turn, radius, 20 * h), normals, 0.1) is None
    assert continued(np.zeros((5, 3)), np.ones((5, 3)), 0.1) is None


def off(mesh: TriangleMesh) -> np.ndarray:
    """How far the vertices lie off the wall of the bore (mm)."""
    return np.abs(np.linalg.norm(mesh.vertices[:, :2], axis=1) - RADIUS)


TURNS, HEIGHTS = 180, 60
RADIUS = 20.0


def bore(made_up_turn: float, flat_part: bool) -> TriangleMesh:
    """The wall of a bore of 20 mm seen from within; turns under `made_up_turn`, between heights, are a flat made-up chord."""
    turn, height = (
        a.ravel() for a in np.meshgrid(np.linspace(-np.pi, np.pi, TURNS), np.arange(HEIGHTS), indexing="ij")
    )
    points = ring(turn, RADIUS, height)
    inside = (np.abs(turn) < made_up_turn) & (height > 12) & (height < HEIGHTS - 13)
    if flat_part:
        chord = RADIUS * np.cos(made_up_turn)
        points[inside] = np.stack([np.full(inside.sum(), chord), points[inside, 1], points[inside, 2]], axis=1)
    corner = (np.arange(TURNS - 1)[:, None] * HEIGHTS + np.arange(HEIGHTS - 1)).ravel()
    right, up = corner + HEIGHTS, corner + 1
    faces = np.concatenate([np.stack([corner, right + 1, right], 1), np.stack([corner, up, right + 1], 1)])
    return TriangleMesh(points.astype(np.float32), faces.astype(np.int32), made_up=inside[faces].any(axis=1))


@pytest.mark.parametrize("turn", [0.5, 0.9])
def test_the_wall_of_a_bore_that_nothing_saw_lies_on_the_cylinder(turn: float) -> None:
    flat = bore(turn, flat_part=True)
    faired, moved = fair_patches(ScanState(()), flat, silent)
    assert moved == 1 and off(flat).max() > 2.0
    assert off(faired).max() < 0.05
    untouched = ~flat.made_up
    assert np.array_equal(faired.vertices[flat.faces[untouched]], flat.vertices[flat.faces[untouched]])


def test_a_patch_too_large_to_be_faired_still_goes_on_with_its_wall(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(patches, "MAX_FAIRED", 10)
    faired, moved = fair_patches(ScanState(()), bore(0.5, flat_part=True), silent)
    assert moved == 1 and off(faired).max() < 0.05
    monkeypatch.setattr(walls, "LEAST_INNER", 100_000)
    flat = bore(0.5, flat_part=True)
    kept, moved = fair_patches(ScanState(()), flat, silent)
    assert moved == 0 and np.array_equal(kept.vertices, flat.vertices)


def box_without_lid() -> TriangleMesh:
    """Four walls of 40 mm, 30 mm high, and a flat made-up lid, in squares of 1 mm."""
    grid = np.arange(41.0) - 20
    u, v = (a.ravel() for a in np.meshgrid(grid, np.arange(31.0), indexing="ij"))
    rows = []
    for k in range(4):
        c, s = np.cos(k * np.pi / 2), np.sin(k * np.pi / 2)
        rows.append(np.stack([c * u + s * 20, s * u - c * 20, v], axis=1))
    a, b = (x.ravel() for x in np.meshgrid(grid, grid, indexing="ij"))
    rows.append(np.stack([a, b, np.full(len(a), 30.0)], axis=1))
    faces, start = [], 0
    for points, high in zip(rows, [31] * 4 + [41], strict=True):
        wide = len(points) // high
        corner = (np.arange(wide - 1)[:, None] * high + np.arange(high - 1)).ravel() + start
        faces += [
            np.stack([corner, corner + high, corner + high + 1], 1),
            np.stack([corner, corner + high + 1, corner + 1], 1),
        ]
        start += len(points)
    points, lid = np.concatenate(rows), np.arange(start) >= start - 41 * 41
    _, first, same = np.unique(np.round(points, 3), axis=0, return_index=True, return_inverse=True)
    whole = np.concatenate(faces)
    made_up = lid[whole].all(axis=1)
    return TriangleMesh(points[first].astype(np.float32), same.ravel()[whole].astype(np.int32), made_up=made_up)


def test_walls_that_only_lead_away_do_not_draw_a_lid_to_them() -> None:
    box = box_without_lid()
    faired, _ = fair_patches(ScanState(()), box, silent)
    lid = (np.abs(box.vertices[:, :2]) < 19.5).all(axis=1)
    assert np.abs(faired.vertices[lid, :2] - box.vertices[lid, :2]).max() < 4.0
    assert faired.vertices[lid, 2].min() > 29.0
