"""Points in a hashed grid against SciPy's k-d tree, and the registration loops that stand on it."""

import numpy as np
import pytest
from scenes import uv_sphere
from scipy.spatial import cKDTree

from lucid_relic.alignment.features import match
from lucid_relic.alignment.icp import Painted, Target, icp
from lucid_relic.geometry import _kernels
from lucid_relic.geometry.nearest_table import NearestTable
from lucid_relic.geometry.point_grid import PointGrid
from lucid_relic.geometry.rigid import difference, from_rotvec, inverse, transform_points
from lucid_relic.geometry.spacing import nearest_spacing
from lucid_relic.light.srgb import log_light, to_srgb
from lucid_relic.types import PointCloud

RNG = np.random.default_rng(21)


@pytest.mark.parametrize(("count", "reach"), [(1, 2.0), (400, 0.7), (5000, 3.1), (5000, 60.0)])
def test_the_nearest_is_the_one_a_kd_tree_finds(count: int, reach: float) -> None:
    # Independent oracle: scipy.spatial.cKDTree.
    points = RNG.normal(0, 20, (count, 3)).astype(np.float32)
    places = RNG.normal(0, 25, (800, 3))
    cells = PointGrid(points).cells(reach)
    distance, index = cKDTree(points.astype(np.float64)).query(places, distance_upper_bound=reach)
    for place, away, wanted in zip(places, distance, index, strict=True):
        found = _kernels.nearest_in_cells(*place, reach, *cells.arrays)
        if np.isfinite(away) and away < 0.999 * reach:
            assert np.linalg.norm(points[cells.order[found]] - place) == pytest.approx(away, abs=1e-4)
            assert cells.order[found] == wanted or count == 1
        elif not np.isfinite(away) and count > 1:
            assert found == -1


def test_all_neighbours_are_those_of_a_kd_tree() -> None:
    points = RNG.uniform(-10, 10, (1500, 3)).astype(np.float32)
    begin, index, distance = PointGrid(points).around(2.5)
    expected = cKDTree(points).query_ball_point(points, 2.5)
    for i in range(0, 1500, 37):
        own = slice(begin[i], begin[i + 1])
        assert sorted(index[own]) == sorted(expected[i])
        assert np.allclose(distance[own], np.linalg.norm(points[index[own]] - points[i], axis=1), atol=1e-5)


def test_a_table_names_the_point_nearest_to_the_middle_of_each_cell() -> None:
    points = RNG.uniform(-8, 8, (700, 3)).astype(np.float32)
    table = NearestTable(points, 3.0)
    cells = np.argwhere(table.nearest >= 0)[::41]
    middles = table.low + (cells + 0.5) * table.cell
    away = np.linalg.norm(points[table.nearest[tuple(cells.T)]] - middles, axis=1)
    least, _ = cKDTree(points).query(middles)
    assert np.allclose(away[least < 3.0], least[least < 3.0], atol=1e-5)
    assert (away >= least - 1e-5).all()
    # Whatever lies within the reach of a point finds one.
    places = points[:100] + from_unit(RNG.normal(size=(100, 3))) * 2.6
    assert (table.nearest[tuple(((places - table.low) / table.cell).astype(int).T)] >= 0).all()


def test_a_table_too_large_is_not_worth_making() -> None:
    points = np.array([[0, 0, 0], [900, 900, 900]], np.float32)
    assert NearestTable.fits(points, 30.0)
    assert not NearestTable.fits(points, 3.0)
    assert not NearestTable.fits(np.empty((0, 3), np.float32), 3.0)


def test_rough_partners_at_first_lead_where_exact_ones_do(monkeypatch: pytest.MonkeyPatch) -> None:
    ball = striped_ball(9000, 3, np.eye(4))
    stretched = ball.points * np.array([1.0, 0.7, 0.45], np.float32)
    normals = from_unit(ball.normals / np.array([1.0, 0.7, 0.45], np.float32))
    fixed = PointCloud(stretched[::2], normals[::2].astype(np.float32))
    truth = from_rotvec(np.radians([9.0, -6.0, 8.0]), np.array([1.2, -0.8, 0.9]))
    moving = PointCloud(stretched[1::2], normals[1::2].astype(np.float32)).transformed(inverse(truth))
    rough = icp(Target(fixed), moving, np.eye(4), 5.0, 20, 1.5)
    monkeypatch.setattr(NearestTable, "fits", lambda *_: False)
    exact = icp(Target(fixed), moving, np.eye(4), 5.0, 20, 1.5)
    assert max(difference(rough.T_fixed_moving, exact.T_fixed_moving)) < 2e-3
    assert difference(rough.T_fixed_moving, truth)[0] < 0.1


@pytest.mark.parametrize("spacing", [0.2, 4.0])
def test_the_spacing_of_many_points_is_told_by_some_of_them(spacing: float) -> None:
    # A grid of 70,000 points that are moved a little; with the wide one, of 3 rows only, slabs are too thin to tell.
    rows = 300 if spacing < 1 else 70_000 // 3
    grid = np.stack(np.meshgrid(np.arange(rows), np.arange(70_000 // rows)), axis=-1).reshape(-1, 2) * spacing
    points = np.column_stack([grid, np.zeros(len(grid))]) + RNG.uniform(-0.1, 0.1, (len(grid), 3)) * spacing
    distance, _ = cKDTree(points).query(points, k=2)
    assert nearest_spacing(points.astype(np.float32), 4000) == pytest.approx(np.median(distance[:, 1]), rel=0.02)


def test_a_single_point_has_no_spacing() -> None:
    assert nearest_spacing(np.zeros((1, 3), np.float32), 10) == np.inf


def from_unit(vectors: np.ndarray) -> np.ndarray:
    """Vectors (n, 3) of length one."""
    return vectors / np.linalg.norm(vectors, axis=1, keepdims=True)


def test_an_empty_grid_has_no_neighbours() -> None:
    grid = PointGrid(np.empty((0, 3), np.float32))
    assert _kernels.nearest_in_cells(0.0, 0.0, 0.0, 5.0, *grid.cells(5.0).arrays) == -1
    assert grid.around(1.0)[0].tolist() == [0]


def test_matches_are_among_each_others_three_nearest() -> None:
    # Against the whole table of distances.
    a, b = RNG.uniform(0, 1, (310, 66)).astype(np.float32), RNG.uniform(0, 1, (270, 66)).astype(np.float32)
    table = ((a[:, None] - b[None]) ** 2).sum(axis=2)
    forward, backward = np.argsort(table, axis=1)[:, :3], np.argsort(table, axis=0)[:3]
    expected = {(i, j) for i in range(310) for j in forward[i] if i in backward[:, j]}
    assert {tuple(p) for p in match(a, b)} == expected


def striped_ball(count: int, seed: int, turn: np.ndarray) -> PointCloud:
    """Points of a ball of 20 mm whose stripes are the only thing that tells how it is turned."""
    rng = np.random.default_rng(seed)
    unit = rng.normal(size=(count, 3))
    unit /= np.linalg.norm(unit, axis=1, keepdims=True)
    x, y, z = unit.T
    light = 0.35 + 0.2 * np.sin(5 * x + 2 * y) + 0.1 * np.sin(6 * z - 3 * y)
    back = inverse(turn)
    ball = PointCloud(
        (20 * unit).astype(np.float32), unit.astype(np.float32), to_srgb(np.stack([light, 0.8 * light, 0.6 * light], 1))
    )
    return ball.transformed(back)


def test_colour_holds_a_ball_that_its_shape_lets_turn() -> None:
    truth = from_rotvec(np.radians([3.0, -2.0, 4.0]), np.array([0.4, -0.3, 0.2]))
    fixed, moving = striped_ball(9000, 1, np.eye(4)), striped_ball(9000, 2, truth)
    target = Target(fixed)
    painted = Painted(target, 0.8)
    by_shape = icp(target, moving, np.eye(4), 4.0, 30, 1.5)
    by_colour = icp(target, moving, np.eye(4), 4.0, 30, 1.5, painted)
    assert difference(by_shape.T_fixed_moving, truth)[0] > 3.0
    assert difference(by_colour.T_fixed_moving, truth)[0] < 0.05
    assert painted.likeness(moving, by_colour.T_fixed_moving, 1.5)[0] > 0.98
    assert painted.likeness(moving, by_shape.T_fixed_moving, 1.5)[0] < 0.95


def test_exposure_is_a_constant_on_the_logarithmic_scale() -> None:
    linear = np.linspace(0.1, 0.4, 50)
    off = log_light(to_srgb(2 * linear)) - log_light(to_srgb(linear))
    assert np.allclose(off, np.log(2), atol=0.04)


def test_icp_says_how_firmly_a_ball_is_held() -> None:
    mesh = uv_sphere(20, 40, 80)
    cloud = PointCloud(mesh.vertices, mesh.vertex_normals().astype(np.float32))
    start = from_rotvec(np.zeros(3), np.array([0.5, 0.2, -0.4]))
    result = icp(Target(cloud), cloud, start, 3.0, 20, 1.0)
    centre = transform_points(result.T_fixed_moving, np.zeros((1, 3)))
    assert np.abs(centre).max() < 1e-3 and result.inlier_share > 0.99
    # Turns as the arc at the surface.
    eigen = np.linalg.eigvalsh(result.information * np.outer(*2 * [[1 / 20] * 3 + [1] * 3]))
    assert eigen[:3].max() < 0.02 * eigen[3]
