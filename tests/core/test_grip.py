"""Grip of shapes whose free motions are known from geometry, and by moving surfaces over themselves."""

import numpy as np
import pytest
from scenes import knot_model, uv_sphere

from lucid_relic.demo.objects import demo_model
from lucid_relic.geometry.bvh import TriangleTree
from lucid_relic.geometry.rigid import from_rotvec, transform_points
from lucid_relic.inspection.distance import sample_surface
from lucid_relic.planning.grip import WEAK, Grip, grip

RNG = np.random.default_rng(4)


def ball(count: int = 4000) -> tuple[np.ndarray, np.ndarray]:
    n = RNG.normal(size=(count, 3))
    n /= np.linalg.norm(n, axis=1, keepdims=True)
    return 25 * n + [3, -8, 300], n


def cap() -> tuple[np.ndarray, np.ndarray]:
    p, n = ball(12000)
    return p[n[:, 2] < -0.4], n[n[:, 2] < -0.4]


def cylinder() -> tuple[np.ndarray, np.ndarray]:
    a, z = RNG.uniform(0, 2 * np.pi, 4000), RNG.uniform(-40, 40, 4000)
    n = np.stack([np.cos(a), np.sin(a), np.zeros(4000)], axis=1)
    return 20 * n + np.stack([np.full(4000, 7.0), np.zeros(4000), z], axis=1), n


def plane() -> tuple[np.ndarray, np.ndarray]:
    p = np.column_stack([RNG.uniform(-40, 40, (4000, 2)), np.full(4000, 9.0)])
    return p, np.tile([0, 0, 1.0], (4000, 1))


def corner() -> tuple[np.ndarray, np.ndarray]:
    p = RNG.uniform(0, 40, (6000, 3))
    n = np.eye(3)[np.arange(6000) % 3]
    p[n > 0] = 0
    return p, n


@pytest.mark.parametrize(
    ("shape", "kinds"),
    [
        (ball, ["turn"] * 3),
        (cap, ["turn"] * 3),
        (cylinder, ["slide", "turn"]),
        (plane, ["slide", "slide", "turn"]),
        (corner, []),
    ],
)
def test_what_slips_is_what_geometry_says(shape, kinds: list[str]) -> None:
    """The free motions of Gelfand et al. 2003, table 1."""
    assert sorted(s.kind for s in grip(*shape()).slips) == kinds


def test_axes_and_places_of_slips_are_told() -> None:
    slips = {s.kind: s for s in grip(*cylinder()).slips}
    for slip in slips.values():
        assert abs(slip.direction[2]) > 0.999
    assert slips["turn"].through[:2] == pytest.approx([7, 0], abs=0.5)
    for slip in grip(*cap()).slips:
        away = np.cross(slip.direction, np.array([3, -8, 300]) - slip.through)
        assert np.linalg.norm(away) < 1.0, "turns of a ball go through its centre, though only a cap is seen"
    told = grip(*cylinder()).words(np.array([0, 0, 1.0]))
    assert sorted(told) == ["up and down", "upright turn"]
    assert grip(*plane()).words(np.array([0, 1.0, 0]))[-1] in ("tip", "sideways")


def test_the_star_is_long_where_it_holds_and_short_where_it_slips() -> None:
    star = grip(*cylinder())
    up = np.argmax(np.abs(star.axes[:, 2]))
    assert star.slide[up] < 0.05 and star.turn[up] < 0.05
    assert np.delete(star.slide, up).min() > 0.9 and np.delete(star.turn, up).min() > 0.3
    assert np.allclose(star.axes @ star.axes.T, np.eye(3), atol=1e-9)
    firm = grip(*corner())
    assert firm.slide.min() > 0.9 and firm.turn.min() > WEAK


def test_noise_of_normals_is_not_taken_for_relief() -> None:
    p, n = ball()
    rough = n + RNG.normal(0, 0.15, n.shape)
    rough /= np.linalg.norm(rough, axis=1, keepdims=True)
    assert len(grip(p, rough).slips) == 0 and len(grip(p, rough, noise_rad=0.15).slips) == 3


def moved_cost(
    surface: TriangleTree, points: np.ndarray, direction: np.ndarray, through: np.ndarray, turn: bool
) -> float:
    """Rms distance (mm) of a surface from itself after a move of 2 mm, or a turn that moves it by 2 mm at its rim."""
    if turn:
        arm = np.linalg.norm(np.cross(points - through, direction), axis=1).mean()
        motion = from_rotvec(direction * 2.0 / arm, np.zeros(3))
        motion[:3, 3] = through - motion[:3, :3] @ through
    else:
        motion = np.eye(4)
        motion[:3, 3] = 2.0 * direction
    distance, _ = surface.closest(transform_points(motion, points), 10.0)
    return float(np.sqrt((distance**2).mean()))


def grip_of(mesh, count: int = 6000) -> tuple[Grip, np.ndarray]:
    points = sample_surface(mesh, count, 3)
    _, face = TriangleTree(mesh).closest(points)
    n = mesh.face_normals()[face]
    return grip(points, n / np.linalg.norm(n, axis=1, keepdims=True)), points


@pytest.mark.parametrize("name", ["owl", "bell", "stamp", "tile", "float", "lamp", "fender", "ball", "lump"])
def test_moving_objects_over_themselves_agrees_with_the_forecast(name: str) -> None:
    """Along what slips a surface stays on itself; along the firmest motion it comes off by a good part of the move."""
    mesh = {"ball": lambda: uv_sphere(30.0), "lump": lambda: knot_model(1.5).mesh}.get(
        name, lambda: demo_model(name).mesh
    )()
    found, points = grip_of(mesh)
    tree, centre = TriangleTree(mesh), points.mean(axis=0)
    firm = int(np.argmax(found.slide))
    firmest = moved_cost(tree, points, found.axes[firm], centre, turn=False)
    assert firmest > 0.5
    for slip in found.slips:
        assert moved_cost(tree, points, slip.direction, slip.through, slip.kind == "turn") < 0.4 * firmest, slip
    for axis, held in zip(found.axes, found.slide, strict=True):
        if held > 2 * WEAK:
            assert moved_cost(tree, points, axis, centre, turn=False) > 0.15 * firmest
