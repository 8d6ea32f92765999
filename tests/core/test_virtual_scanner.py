"""The stand-in for a scanner and the shapes it looks at, against rays and distances worked out by hand."""

import numpy as np
import pytest
from scenes import knot_model, uv_sphere

from lucid_relic.capture.model import ScanModel
from lucid_relic.capture.optics import PLATE_ALBEDO
from lucid_relic.capture.traits import ScannerTraits
from lucid_relic.capture.virtual import TurntablePlan, VirtualScanner
from lucid_relic.demo import shapes
from lucid_relic.geometry.rigid import transform_points
from lucid_relic.light.srgb import to_linear

CLEAN = {"noise_mm": 0.0, "torn_share": 0.0, "dark_albedo": 1e-6, "grazing_deg": 89.9}
RADIUS = 30.0


def traits(**changed) -> ScannerTraits:
    return ScannerTraits(**{"width": 240, "height": 180, "focal_px": 324.0, **CLEAN, **changed})


def ball(albedo: float = 0.5, gloss: float = 0.0) -> ScanModel:
    mesh = uv_sphere(RADIUS, 160, 320)
    count = len(mesh.vertices)
    return ScanModel(mesh, np.full((count, 3), albedo, np.float32), np.full(count, gloss, np.float32))


def scanner(
    plan: TurntablePlan | None = None, seed: int = 0, model: ScanModel | None = None, **changed
) -> VirtualScanner:
    return VirtualScanner(model or ball(), plan or TurntablePlan(stops=6), traits(**changed), seed)


def seen(made: VirtualScanner, index: int) -> tuple[np.ndarray, np.ndarray]:
    """Points (n, 3) of one frame on the model by the true poses, and which pixels (h, w) they are of."""
    depth = made.shoot(index).depth
    mask = depth > 0
    rays = made.camera.rays[mask]
    points = np.column_stack([rays, np.ones(len(rays))]) * depth[mask][:, None]
    return transform_points(made.truth_poses()[index], points.astype(float)), mask


@pytest.mark.parametrize(("tip", "about"), [(0.0, 0.0), (90.0, 0.0), (-40.0, 65.0)])
def test_without_noise_every_point_lies_on_the_ball_or_on_the_plate(tip: float, about: float) -> None:
    made = scanner(TurntablePlan(stops=6, tip_deg=tip, tip_about_deg=about, start_deg=17))
    for index in (0, 4):
        points, mask = seen(made, index)
        on_ball = np.abs(np.linalg.norm(points, axis=1) - RADIUS) < 0.05
        plate = transform_points(made.T_plate_model, points)[:, 2]
        assert (on_ball | (np.abs(plate) < 0.01)).all()
        assert on_ball.sum() > 2000 and (~on_ball).sum() > 1000 and 0.05 < mask.mean() < 0.5


def test_the_depth_image_is_that_of_the_rays() -> None:
    made = scanner()
    depth, camera = made.shoot(2).depth, made.camera
    pose = np.linalg.inv(made.truth_poses()[2])
    centre = pose[:3, 3]  # of the ball, from the camera
    rays = np.concatenate([camera.rays, np.ones((180, 240, 1))], axis=2).astype(float)
    a, b = (rays**2).sum(axis=2), rays @ centre
    root = b**2 - a * (centre @ centre - RADIUS**2)
    hit = root > 0.2 * a * RADIUS**2
    z = (b - np.sqrt(np.maximum(root, 0))) / a
    # Not where the plate may stand in front, at the foot.
    upper = hit & ((rays * z[..., None])[..., 1] < centre[1] + 0.5 * RADIUS)
    assert upper.sum() > 1500 and np.abs(depth - z)[upper].max() < 0.03


@pytest.mark.parametrize("standoff", [400.0, 800.0])
def test_noise_grows_with_the_square_of_the_distance_and_with_the_slant(standoff: float) -> None:
    plan = TurntablePlan(stops=1, elevation_deg=60)
    band = {"standoff_mm": standoff, "band_mm": (10.0, 2000.0)}
    made, noisy = scanner(plan, **band), scanner(plan, noise_mm=0.2, **band).shoot(0).depth
    points, mask = seen(made, 0)
    z, measured = made.shoot(0).depth[mask], noisy[mask]
    plate = (np.abs(transform_points(made.T_plate_model, points)[:, 2]) < 0.01) & (measured > 0)
    eye = made.truth_poses()[0][:3, 3] - points
    up = made.T_plate_model[2, :3]
    sigma = 0.2 * (z / standoff) ** 2 * (0.75 + 0.25 * np.linalg.norm(eye, axis=1) / (eye @ up))
    off = ((measured - z) / sigma)[plate]
    # Within three times what the number of pixels lets it scatter.
    assert len(off) > 300 and off.std() == pytest.approx(1.0, abs=3 / np.sqrt(2 * len(off)))
    assert abs(off.mean()) < 3 / np.sqrt(len(off))


def test_the_same_seed_gives_the_same_frames_and_another_one_others() -> None:
    first, again, other = (scanner(seed=s, noise_mm=0.05).shoot(1) for s in (3, 3, 4))
    assert np.array_equal(first.depth, again.depth) and np.array_equal(first.colour, again.colour)
    assert not np.array_equal(first.depth, other.depth)


def test_what_is_too_near_too_far_too_dark_or_too_slanted_is_lost() -> None:
    full = (scanner().shoot(0).depth > 0).sum()
    depth = scanner().shoot(0).depth
    middle = float(np.median(depth[depth > 0]))
    cut = scanner(band_mm=(220.0, middle)).shoot(0).depth
    assert 0.3 * full < (cut > 0).sum() < 0.7 * full and cut.max() <= middle
    dark = scanner(model=ball(0.01), dark_albedo=0.05).shoot(0).depth
    assert (dark > 0).sum() < 0.7 * full
    made = scanner(grazing_deg=50.0)
    points, _ = seen(made, 0)
    on_ball = np.abs(np.linalg.norm(points, axis=1) - RADIUS) < 0.05
    eye = made.truth_poses()[0][:3, 3]
    view = eye - points[on_ball]
    cos = np.einsum("ij,ij->i", points[on_ball] / RADIUS, view / np.linalg.norm(view, axis=1, keepdims=True))
    assert on_ball.any() and cos.min() > np.cos(np.radians(51))


def test_torn_pixels_lie_between_front_and_back() -> None:
    clean, torn = scanner().shoot(0).depth, scanner(torn_share=1.0).shoot(0).depth
    changed = np.abs(torn - clean) > 0.01
    assert 20 < changed.sum() < 2000
    around = np.lib.stride_tricks.sliding_window_view(np.pad(clean, ((0, 0), (1, 1)), mode="edge"), 3, axis=1)
    assert (torn[changed] >= around.min(axis=2)[changed] - 0.01).all()
    assert (torn[changed] <= around.max(axis=2)[changed] + 0.01).all()


def test_the_axis_in_the_manifest_is_off_by_just_what_the_traits_say() -> None:
    made = scanner(axis_error_mm=0.4, axis_error_deg=0.25)
    told = made.manifest()["turntable"]
    point, direction = made._true_axis()
    assert np.linalg.norm(np.array(told["axis_point_mm"]) - point) == pytest.approx(0.4, abs=1e-9)
    cos = np.array(told["axis_direction"]) @ direction
    assert np.degrees(np.arccos(cos)) == pytest.approx(0.25, abs=1e-6)
    assert "truth" not in str(made.manifest()).lower()


def test_the_plate_turns_by_what_is_told() -> None:
    made = scanner(TurntablePlan(stops=8, start_deg=10))
    told = [made.shoot(n).fields["turntable_deg"] for n in (0, 1, 5)]
    assert told == [10.0, 55.0, 235.0]
    poses = made.truth_poses()
    turned = np.linalg.inv(poses[1][:3, :3]) @ poses[0][:3, :3]
    assert np.degrees(np.arccos((np.trace(turned) - 1) / 2)) == pytest.approx(45.0, abs=1e-6)


def test_stops_may_jitter_without_the_manifest_knowing() -> None:
    plan, model = TurntablePlan(stops=12), knot_model(2.0)
    still, shaken = scanner(plan, model=model), scanner(plan, model=model, stop_jitter_deg=0.5)
    assert [still.shoot(n).fields for n in (0, 3)] == [shaken.shoot(n).fields for n in (0, 3)]
    moved = [np.abs(still.shoot(n).colour.astype(int) - shaken.shoot(n).colour).max() for n in range(3)]
    assert max(moved) > 10


def test_exposure_scales_the_light_and_clipping_is_counted() -> None:
    plain, bright = scanner(exposure=0.5).shoot(0), scanner(exposure=1.0).shoot(0)
    a, b = to_linear(plain.colour), to_linear(bright.colour)
    usable = (a.min(axis=2) > 0.1) & (b.max(axis=2) < 0.9)
    assert usable.sum() > 1000 and (b[usable] / a[usable]).mean() == pytest.approx(2.0, abs=0.05)
    assert plain.clipped == 0.0 < scanner(exposure=6.0).shoot(0).clipped
    plate = bright.colour[bright.depth > 0].mean(axis=1)
    assert to_linear(plate.astype(np.uint8)).min() > 0.2 * PLATE_ALBEDO


POINTS = np.random.default_rng(5).uniform(-20, 20, (4000, 3)).astype(np.float32)
EXACT = {
    "ball": lambda p: shapes.sphere(p, (1, 2, 3), 9),
    "rod": lambda p: shapes.capsule(p, (-5, 0, 1), (9, 4, 3), 4, 4),
    "ring": lambda p: shapes.torus(p, (1, 0, -2), 1, 9, 3),
    "box": lambda p: shapes.box(p, (0, 1, 2), (8, 6, 4), 1.5),
    "turned": lambda p: shapes.revolved(p, [(0, -8), (7, -8), (10, 3), (4, 9), (0, 9)]),
}


@pytest.mark.parametrize("name", EXACT)
def test_distances_change_by_one_a_millimetre(name: str) -> None:
    field, step = EXACT[name], 1e-2
    slopes = [
        (field(POINTS + np.eye(3, dtype=np.float32)[k] * step) - field(POINTS - np.eye(3, dtype=np.float32)[k] * step))
        / (2 * step)
        for k in range(3)
    ]
    length = np.linalg.norm(slopes, axis=0)
    # But on the ridges where two sides are equally near.
    assert (np.abs(length - 1) < 0.02).mean() > 0.95 and length.max() < 1.1


def test_distances_by_hand() -> None:
    at = lambda *p: np.array([p], np.float32)  # noqa: E731
    assert shapes.box(at(11, 0, 0), (0, 0, 0), (8, 6, 4))[0] == pytest.approx(3)
    assert shapes.box(at(11, 10, 4), (0, 0, 0), (8, 6, 4))[0] == pytest.approx(5)
    assert shapes.box(at(0, 0, 0), (0, 0, 0), (8, 6, 4))[0] == pytest.approx(-4)
    assert shapes.torus(at(9, 0, 5), (0, 0, 0), 2, 9, 3)[0] == pytest.approx(2)
    assert shapes.capsule(at(15, 3, 0), (0, 0, 0), (10, 0, 0), 2, 1)[0] == pytest.approx(np.hypot(5, 3) - 1)
    assert shapes.ellipsoid(at(0, 0, 5), (0, 0, 0), (9, 7, 5))[0] == pytest.approx(0, abs=1e-6)
    disc = [(0.0, -1.0), (6.0, -1.0), (6.0, 1.0), (0.0, 1.0)]
    assert shapes.revolved(at(6, 8, 0), disc)[0] == pytest.approx(4)
    assert shapes.revolved(at(0, 0, 0.4), disc)[0] == pytest.approx(-0.6, abs=1e-6)


def test_fillets_fill_only_near_where_two_shapes_meet() -> None:
    a, b = EXACT["ball"](POINTS), EXACT["box"](POINTS)
    union, cut = shapes.smooth_union(a, b, 3.0), shapes.smooth_cut(a, b, 3.0)
    apart = np.abs(a - b) > 3
    assert np.array_equal(union[apart], np.minimum(a, b)[apart])
    assert (union <= np.minimum(a, b)).all() and (np.minimum(a, b) - union).max() <= 0.75 + 1e-5
    assert (cut >= np.maximum(a, -b) - 1e-5).all()


def test_a_field_becomes_a_mesh_of_its_volume() -> None:
    mesh = shapes.mesh_of(lambda p: shapes.torus(p, (0, 0, 0), 2, 12, 4), (-17, -17, -5), (17, 17, 5), 0.5)
    # Pappus: 2·π²·R·r².
    assert mesh.volume_mm3() == pytest.approx(2 * np.pi**2 * 12 * 16, rel=5e-3)
    assert mesh.area_mm2() == pytest.approx(4 * np.pi**2 * 12 * 4, rel=5e-3)


@pytest.mark.parametrize(("tip", "about"), [(0, 0), (90, 0), (33, 120)])
def test_a_model_is_set_down_on_the_plate_in_the_middle(tip: float, about: float) -> None:
    mesh = shapes.mesh_of(lambda p: shapes.box(p, (3, 1, 6), (8, 5, 6)), (-6, -5, -1), (12, 7, 13), 1.0)
    lying, T = ScanModel.plain(mesh).lying(tip, about)
    low, high = lying.mesh.vertices.min(axis=0), lying.mesh.vertices.max(axis=0)
    assert low[2] == pytest.approx(0, abs=1e-4) and low[:2] + high[:2] == pytest.approx([0, 0], abs=1e-3)
    assert np.allclose(transform_points(T, mesh.vertices.astype(float)), lying.mesh.vertices, atol=1e-3)
    assert lying.mesh.volume_mm3() == pytest.approx(mesh.volume_mm3(), rel=1e-4)
