"""The parts that closing and polygonising are made of, against functions whose answer is known and loops in numpy."""

import numpy as np
import pytest
from scenes import knot_field, rendered_state, ring_of_views

from lucid_relic.errors import InputError
from lucid_relic.fusion import _kernels, _marching_kernels, closing
from lucid_relic.fusion.polygonise import triangles_of_blocks
from lucid_relic.geometry import _kernels as geometry_kernels
from lucid_relic.geometry.rigid import inverse, transform_points
from lucid_relic.inspection.mesh_check import check_mesh
from lucid_relic.io.array_store import ArrayStore
from lucid_relic.progress import silent
from lucid_relic.types import Camera

CAMERA = Camera.centred(160, 120, 260.0)


def grid(*shape: int) -> tuple[np.ndarray, ...]:
    return tuple(a.astype(float) for a in np.meshgrid(*map(np.arange, shape), indexing="ij"))


HARMONIC = {
    "a slope": lambda x, y, z: 0.02 * (x + 2 * y - z),
    "a saddle": lambda x, y, z: 0.001 * (x * x - y * y) + 0.01 * z,
    "a twist": lambda x, y, z: 0.001 * x * y * z,
}


@pytest.mark.parametrize("name", HARMONIC)
@pytest.mark.parametrize("shape", [(24, 31, 40), (13, 12, 50)])
def test_what_is_not_fixed_follows_laplaces_equation(name: str, shape: tuple[int, ...]) -> None:
    # These solve the equation of differences too, so that the grid itself adds no error.
    truth = HARMONIC[name](*grid(*shape)).astype(np.float32)
    fixed = np.zeros(shape, bool)
    for axis in range(3):
        np.moveaxis(fixed, axis, 0)[[0, -1]] = True
    fixed |= np.random.default_rng(1).uniform(size=shape) < 0.02
    field = np.where(fixed, truth, 0).astype(np.float32)
    closing._solve(field, fixed, 0, silent)
    assert np.array_equal(field[fixed], truth[fixed])
    assert np.abs(field - truth).max() < 0.01 * np.ptp(truth)


def test_between_a_ball_and_a_shell_the_field_falls_with_the_reciprocal() -> None:
    x, y, z = grid(48, 48, 48)
    r = np.sqrt((x - 23.5) ** 2 + (y - 23.5) ** 2 + (z - 23.5) ** 2)
    # u = (1/r - 1/b) / (1/a - 1/b) is harmonic between radii a and b, and 1 and 0 there.
    truth = (1 / r - 1 / 22) / (1 / 6 - 1 / 22)
    fixed = (r <= 6) | (r >= 22)
    field = np.where(fixed, truth, 0).astype(np.float32)
    closing._solve(field, fixed, 0, silent)
    between = (r > 6) & (r < 22)
    assert np.abs(field - truth)[between].max() < 0.02


def test_halving_takes_the_mean_of_what_is_fixed_and_doubling_brings_a_slope_back() -> None:
    shape = (9, 10, 11)
    rng = np.random.default_rng(2)
    field, fixed = rng.normal(size=shape).astype(np.float32), rng.uniform(size=shape) < 0.4
    out, out_fixed = np.empty((5, 5, 6), np.float32), np.empty((5, 5, 6), bool)
    _kernels.coarsen(field, fixed, out, out_fixed)
    for place in np.ndindex(5, 5, 6):
        part = tuple(slice(2 * p, 2 * p + 2) for p in place)
        held = field[part][fixed[part]]
        assert out_fixed[place] == bool(len(held))
        assert out[place] == pytest.approx(held.mean() if len(held) else 0.0, abs=1e-6)
    slope = lambda x, y, z: x + 2 * y - 3 * z  # noqa: E731
    coarse = slope(*(2 * g + 0.5 for g in grid(6, 7, 8))).astype(np.float32)
    fine = np.zeros((12, 14, 16), np.float32)
    _kernels.refine(coarse, fine, np.zeros(fine.shape, bool))
    inner = (slice(1, -1),) * 3
    assert np.abs(fine - slope(*grid(12, 14, 16)))[inner].max() < 0.05


def test_deep_behind_a_surface_the_field_is_released() -> None:
    field = np.array([-0.9, -0.4, -0.3, 0.0, 0.3, 0.4, 0.9], np.float32).reshape(-1, 1, 1)
    known = np.ones(field.shape, bool)
    known[3] = False
    closing._keep_near_surface(field, known, 0.4)
    assert known.ravel().tolist() == [False, False, True, False, True, True, True]
    assert field.ravel() == pytest.approx([0, 0, -0.3, 0, 0.3, 0.4, 0.4])


@pytest.fixture(scope="module")
def views():
    return rendered_state(knot_field, ring_of_views(5, 150.0, (30.0,), (0, 0, 24)), CAMERA)


def test_free_space_is_what_frames_looked_through(views) -> None:
    scan, cell, margin = views.passes[0], 4.0, 5.0
    free, origin = np.zeros((24, 24, 24), np.uint8), np.array([-48.0, -48.0, -24.0])
    plain = np.zeros(free.shape, int)
    places = origin + cell * np.stack(grid(*free.shape), -1).reshape(-1, 3)
    for index in range(5):
        pose = inverse(scan.T_object_camera(index))
        depth = scan.source.depth(index)
        _kernels.count_free(free, 255, origin, cell, pose, CAMERA.as_vector, depth, margin)
        local = transform_points(pose, places)
        u, v = np.floor(CAMERA.project(local) + 0.5).astype(int).T
        inside = (u >= 2) & (v >= 2) & (u < 158) & (v < 118)
        around = np.lib.stride_tricks.sliding_window_view(np.pad(depth, 1), (3, 3)).min(axis=(2, 3))
        least = around[np.clip(v, 0, 119), np.clip(u, 0, 159)]
        plain += (inside & (least > 0) & (local[:, 2] <= least - margin)).reshape(free.shape)
    assert (plain >= 2).sum() > 100
    # At the border of the picture rounding may go either way.
    assert (free != plain).mean() < 2e-3
    # Nothing inside the object was looked through.
    inside = knot_field(places).reshape(free.shape) < 0
    assert inside.sum() > 500 and not free[inside].any()


def test_votes_for_and_against_a_point(views) -> None:
    scan, margin = views.passes[0], 2.0
    rng = np.random.default_rng(3)
    points = rng.uniform((-30, -30, 0), (30, 30, 60), (4000, 3))
    agree, contradict = np.zeros(4000, np.int64), np.zeros(4000, np.int64)
    wanted = np.zeros((2, 4000), int)
    for index in range(5):
        pose, depth = inverse(scan.T_object_camera(index)), scan.source.depth(index)
        geometry_kernels.see_through(points, pose, CAMERA.as_vector, depth, margin, agree, contradict)
        local = transform_points(pose, points)
        u, v = np.floor(CAMERA.project(local) + 0.5).astype(int).T
        inside = (u >= 1) & (v >= 1) & (u < 159) & (v < 119)
        z = np.where(inside, depth[np.clip(v, 0, 119), np.clip(u, 0, 159)], 0)
        wanted[0] += (z > 0) & (np.abs(local[:, 2] - z) <= margin)
        wanted[1] += (z > 0) & (local[:, 2] < z - margin)
    assert wanted[0].sum() > 300 and wanted[1].sum() > 1000
    assert (contradict > wanted[1]).sum() == 0
    # A contradiction needs the pixels around to say the same, so some are not told; none that is told is wrong.
    assert contradict.sum() > 0.6 * wanted[1].sum() and np.abs(agree - wanted[0]).mean() < 0.1


def padded(field: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """All blocks (b, 9, 9, 9) of a dense field and their coordinates; NaN beyond it."""
    blocks = np.array(list(np.ndindex(*(-(-n // 8) for n in field.shape))))
    out = np.full((len(blocks), 9, 9, 9), np.nan, np.float32)
    for n, (i, j, k) in enumerate(blocks * 8):
        part = field[i : i + 9, j : j + 9, k : k + 9]
        out[n, : part.shape[0], : part.shape[1], : part.shape[2]] = part
    return out, blocks


def triangulated(field: np.ndarray, voxel: float = 0.5, origin: tuple[float, ...] = (0, 0, 0)):
    blocks, at = padded(field.astype(np.float32))
    return triangles_of_blocks(blocks, ~np.isnan(blocks), at, np.array(origin, float), voxel)[0]


def test_a_slanted_plane_is_met_exactly_and_has_its_area() -> None:
    normal = np.array([2.0, 3.0, 6.0]) / 7
    x, y, z = grid(24, 24, 24)
    mesh = triangulated(normal[0] * x + normal[1] * y + normal[2] * z - 17.9, origin=(5, -4, 2))
    off = (mesh.vertices - (5, -4, 2)) @ normal - 17.9 * 0.5
    assert np.abs(off).max() < 1e-4
    facing = mesh.face_normals() / np.linalg.norm(mesh.face_normals(), axis=1, keepdims=True)
    assert (facing @ normal > 0.999).all()
    # Cut out by the square of 11.5 mm in x and y that the grid spans, as long as it stays inside in z.
    assert mesh.area_mm2() == pytest.approx(11.5**2 / normal[2], rel=1e-3)


def test_a_ball_comes_out_closed_with_its_volume() -> None:
    x, y, z = grid(40, 40, 40)
    mesh = triangulated(np.sqrt((x - 19.3) ** 2 + (y - 19.6) ** 2 + (z - 19.1) ** 2) - 15)
    report = check_mesh(mesh)
    assert report.watertight and report.edge_manifold and report.vertex_manifold and report.components == 1
    assert mesh.volume_mm3() == pytest.approx(4 / 3 * np.pi * 7.5**3, rel=5e-3)


def test_cells_without_a_value_at_every_corner_stay_open() -> None:
    x, y, z = grid(24, 24, 24)
    field = np.sqrt((x - 11.4) ** 2 + (y - 11.4) ** 2 + (z - 11.4) ** 2) - 8
    field[:, :, 15:] = np.nan
    mesh = triangulated(field)
    report = check_mesh(mesh)
    assert not report.watertight and report.edge_manifold
    assert mesh.vertices[:, 2].max() <= 14 * 0.5 + 1e-5
    # A sphere between two parallel planes has the area 2·π·r·h.
    height = 14 - (11.4 - 8)
    assert mesh.area_mm2() == pytest.approx(2 * np.pi * 8 * height * 0.25, rel=0.01)


def test_triangles_beside_what_was_not_measured_are_made_up() -> None:
    x, y, z = grid(16, 16, 16)
    blocks, at = padded((z - 7.3).astype(np.float32))
    known = ~np.isnan(blocks) & (at[:, 0, None, None, None] * 8 + np.arange(9)[None, :, None, None] < 9)
    mesh, _, _ = triangles_of_blocks(blocks, known, at, np.zeros(3), 1.0)
    middle = mesh.corners[..., 0].mean(axis=1)
    assert mesh.made_up[middle > 8].all() and not mesh.made_up[middle < 8].any()


def test_only_blocks_that_the_surface_crosses_are_asked() -> None:
    rng = np.random.default_rng(9)
    field = rng.normal(0.9, 0.5, (27, 18, 33)).astype(np.float32)
    out = np.empty((4 * 3 * 5, 3), np.int64)
    used = _marching_kernels.crossing_blocks(field, out)
    wanted = [
        (i // 8, j // 8, k // 8)
        for i in range(0, 26, 8)
        for j in range(0, 17, 8)
        for k in range(0, 32, 8)
        if len(np.unique(field[i : i + 9, j : j + 9, k : k + 9] < 0)) == 2
    ]
    assert list(map(tuple, out[:used])) == wanted and len(wanted) > 10


def test_stored_arrays_come_back_under_the_name_of_their_content(tmp_path) -> None:
    store = ArrayStore(tmp_path)
    rng = np.random.default_rng(0)
    for array in (rng.normal(size=(5, 3)).astype(np.float32), np.zeros((0, 3), np.int32), np.array([True, False])):
        name = store.put(array)
        assert store.put(array.copy()) == name
        back = store.get(name)
        assert back.dtype == array.dtype and np.array_equal(back, array)
    assert (
        store.put(np.zeros(4, np.float32)) != store.put(np.zeros(4, np.int32)) != store.put(np.zeros((2, 2), np.int32))
    )
    with pytest.raises(ValueError, match="read-only"):
        store.get(name)[0] = False
    assert not list(tmp_path.rglob("*.part"))


@pytest.mark.parametrize("name", ["", "../../etc/passwd", "0" * 39, "G" * 40, "0" * 41])
def test_names_that_are_none_never_reach_the_disk(tmp_path, name: str) -> None:
    with pytest.raises(InputError, match="not the name"):
        ArrayStore(tmp_path).get(name)


def test_a_missing_array_is_named(tmp_path) -> None:
    with pytest.raises(InputError, match="abababab… is missing"):
        ArrayStore(tmp_path).get("ab" * 20)


def test_flakes_beside_free_space_are_let_go_and_thin_wires_stay() -> None:
    size = 24
    x, y, z = (np.arange(size, dtype=np.float32) - 11.5 for _ in range(3))
    wire = np.hypot(x[:, None, None], y[None, :, None]) + 0 * z - 0.9  # a wire of 1.8 voxels, measured all round
    field, known = wire.astype(np.float32), (np.abs(wire) < 3.0)
    field[~known] = 0.0
    free = wire > 1.5
    field[3, 3, 4:20], known[3, 3, 4:20], free[3, 3, 4:20] = (
        -0.3,
        True,
        False,
    )  # a thread that stands alone in what is free
    fixed = known | free
    was = field.copy()
    closing._drop_flakes(field, known, fixed, free)
    assert not known[3, 3, 5:19].any() and not fixed[3, 3, 5:19].any() and (field[3, 3, 5:19] == 0).all()
    inside = wire < 0
    assert known[inside].all() and np.array_equal(field[inside], was[inside])
