"""Frames: planes that keep edges, confidence, cropped cameras, held images, what a snapshot carries."""

import pickle
from dataclasses import replace

import numpy as np
import pytest
from scenes import rendered_state, ring_of_views
from scipy.ndimage import gaussian_filter

from lucid_relic.geometry import _kernels
from lucid_relic.geometry.depth_map import KeptDepths, depth_map, frame_map, kept_depth, kept_part
from lucid_relic.geometry.memory import available_bytes
from lucid_relic.io import capture_folder
from lucid_relic.io.array_store import ArrayStore
from lucid_relic.io.capture_folder import CaptureFolder, Held
from lucid_relic.io.snapshots import load_state, save_state
from lucid_relic.types import Camera, PointCloud, ScanState

CAMERA = Camera.centred(160, 120, 200.0)


def roof_depth() -> np.ndarray:
    """A roof whose ridge runs down the middle of the image: two planes of 45° that meet at 200 mm."""
    rays = CAMERA.rays.astype(float)
    return np.where(rays[..., 0] < 0, 200 / (1 + rays[..., 0]), 200 / (1 - rays[..., 0])).astype(np.float32)


ROOF = np.array([[-1, 0, -1], [1, 0, -1]]) / np.sqrt(2)


def angles_to_roof(normals: np.ndarray) -> np.ndarray:
    """Degrees between each normal and the side of the roof that it lies on."""
    side = (CAMERA.rays[..., 0] >= 0).astype(int)
    cos = np.einsum("vuk,vuk->vu", normals, ROOF[side])
    return np.degrees(np.arccos(np.clip(np.abs(cos), -1, 1)))


def test_edge_keeping_planes_do_not_round_a_ridge() -> None:
    depth = roof_depth() + np.random.default_rng(1).normal(size=(120, 160)).astype(np.float32) * 0.02
    near = (slice(10, 110), slice(78, 82))
    plain = angles_to_roof(depth_map(depth, CAMERA).normals)[near]
    keeping = angles_to_roof(depth_map(depth, CAMERA, edge_keeping=True).normals)[near]
    assert np.median(plain) > 10
    assert np.median(keeping) < 3


def ball_depth() -> np.ndarray:
    """A ball of 4 mm that stands out of a wall, seen from 200 mm: it bends within every window."""
    rays = np.concatenate([CAMERA.rays, np.ones((120, 160, 1))], axis=2).astype(float)
    b, a = rays @ [0, 0, 200.0], (rays**2).sum(axis=2)
    inside = np.maximum(b**2 - a * (200.0**2 - 4.0**2), 0)
    return np.where(inside > 0, (b - np.sqrt(inside)) / a, 200.0).astype(np.float32)


def test_edges_told_by_the_noise_are_creases_and_nothing_of_what_bends() -> None:
    noise = np.random.default_rng(1).normal(size=(120, 160)).astype(np.float32) * 0.02
    near = (slice(10, 110), slice(78, 82))
    creased = depth_map(roof_depth() + noise, CAMERA, edge_keeping=True, edge_noises=1.5)
    assert np.median(angles_to_roof(creased.normals)[near]) < 3
    ball = np.s_[57:63, 77:83]
    bent = depth_map(ball_depth() + noise, CAMERA)
    loosely, strictly = (
        depth_map(ball_depth() + noise, CAMERA, edge_keeping=True, edge_noises=n) for n in (np.inf, 1.5)
    )
    # A neighbour's plane is degrees away; the last bits of one that stays are no change.
    changed = [(np.abs(m.normals - bent.normals) > 1e-3).any(axis=2)[ball].mean() for m in (loosely, strictly)]
    assert changed[0] > 0.5 and changed[1] < 0.1


def test_edge_keeping_leaves_flat_ground_alone() -> None:
    depth = np.full((120, 160), 200.0, np.float32)
    a, b = depth_map(depth, CAMERA), depth_map(depth, CAMERA, edge_keeping=True)
    assert np.array_equal(a.normals, b.normals) and np.array_equal(a.fitted, b.fitted)


def test_confidence_falls_with_slant_distance_and_misfit() -> None:
    rays = np.concatenate([CAMERA.rays, np.ones((120, 160, 1))], axis=2)
    facing, slanted = np.array([0, 0, 1.0]), np.array([np.sin(0.6), 0, np.cos(0.6)])
    flat = depth_map((200 / (rays @ facing)).astype(np.float32), CAMERA)
    steep_depth = (150 / (rays @ slanted)).astype(np.float32)
    steep = depth_map(steep_depth, CAMERA)
    middle = (60, 80)
    assert flat.confidence[middle] == pytest.approx(1.0, abs=0.02)
    farther = np.median(steep_depth[steep.confidence > 0]) / steep_depth[middle]
    assert steep.confidence[middle] == pytest.approx(np.cos(0.6) ** 2 * farther**2, abs=0.03)
    rough = np.full((120, 160), 200.0, np.float32)
    rough += np.random.default_rng(2).normal(size=rough.shape).astype(np.float32) * 0.05
    rough[40:80, 60:100] += np.random.default_rng(3).normal(size=(40, 40)).astype(np.float32) * 1.2
    confidence = depth_map(rough, CAMERA).confidence
    assert np.median(confidence[45:75, 65:95]) < 0.5 * np.median(confidence[10:30, 10:150])


def lstsq_plane(depth: np.ndarray, camera: Camera, v: int, u: int) -> tuple[np.ndarray, float]:
    """Unit normal and depth at a pixel of the plane through its window, by numpy's least squares on 1/z = m·(x, y, 1).

    Of a 5 × 5 window those take part whose step in depth is under 75° against the ray, and four pixels more.
    """
    rows, right = [], []
    for dv, du in np.ndindex(5, 5):
        vv, uu, reach = v + dv - 2, u + du - 2, max(abs(dv - 2), abs(du - 2))
        if not (0 <= vv < camera.height and 0 <= uu < camera.width) or depth[vv, uu] <= 0:
            continue
        if abs(depth[vv, uu] - depth[v, u]) <= (3.73 * reach + 4) / camera.fx * depth[v, u]:
            rows.append([*camera.rays[vv, uu], 1.0])
            right.append(1.0 / depth[vv, uu])
    m = np.linalg.lstsq(np.array(rows, float), np.array(right, float), rcond=None)[0]
    return -m / np.linalg.norm(m), 1.0 / (m @ [*camera.rays[v, u], 1.0])


@pytest.mark.parametrize("distortion", [(0, 0, 0, 0, 0), (-0.1, 0.02, 0.001, -0.002, 0.0)], ids=["plain", "distorted"])
def test_planes_of_windows_with_gaps_and_jumps_match_numpys_least_squares(distortion) -> None:
    camera = Camera(160, 120, 200.0, 203.0, 81.0, 58.5, distortion)
    rng = np.random.default_rng(4)
    x, y = camera.rays[..., 0], camera.rays[..., 1]
    depth = (200 + 30 * np.sin(9 * x) * np.cos(7 * y) + 12 * (x > 0.1) + rng.normal(size=x.shape) * 0.05).astype(
        np.float32
    )
    depth[rng.random(depth.shape) < 0.06] = 0
    surface = depth_map(depth, camera)
    usable = np.argwhere(surface.confidence > 0)
    border = usable[(usable < 2).any(axis=1) | (usable >= [118, 158]).any(axis=1)]
    assert len(usable) > 10_000 and len(border) > 100
    for v, u in np.concatenate([rng.permutation(usable)[:400], rng.permutation(border)[:60]]):
        normal, z = lstsq_plane(depth, camera, v, u)
        assert np.allclose(surface.normals[v, u], normal, atol=2e-4), (v, u)
        assert surface.fitted[v, u] == pytest.approx(z, abs=2e-3)


def test_a_part_of_a_photograph_is_that_part(captures) -> None:
    folder = CaptureFolder(captures[0])
    whole = folder.colour(1)
    part = folder.colour(1, (slice(20, 70), slice(35, 95)))
    assert np.ptp(whole) > 50 and np.array_equal(part, whole[20:70, 35:95])


def test_only_wanted_pixels_are_described() -> None:
    wanted = np.zeros((120, 160), bool)
    wanted[40:80, 50:100] = True
    depth = roof_depth()
    part, whole = depth_map(depth, CAMERA, wanted=wanted), depth_map(depth, CAMERA)
    assert not part.confidence[~wanted].any()
    assert np.allclose(part.normals[wanted], whole.normals[wanted], atol=1e-6)


@pytest.mark.parametrize("distortion", [(0, 0, 0, 0, 0), (-0.1, 0.02, 0.001, -0.002, 0.0)])
def test_a_cropped_camera_sees_the_same_rays(distortion) -> None:
    whole = Camera(160, 120, 200.0, 201.0, 81.0, 58.5, distortion)
    part = whole.cropped(30, 20, 50, 40)
    assert np.array_equal(part.rays, whole.rays[20:60, 30:80])
    points = np.array([[3.0, -8.0, 150.0], [-12.0, 4.0, 180.0]])
    assert np.allclose(part.project(points), whole.project(points) - [30, 20])


def test_the_kept_rectangle_holds_what_the_whole_frame_shows(captures) -> None:
    scan = CaptureFolder(captures[0]).as_pass()
    keep = np.zeros((scan.frame_count, -(-scan.camera.width * scan.camera.height // 8)), np.uint8)
    mask = np.zeros((scan.camera.height, scan.camera.width), bool)
    mask[60:120, 90:150] = True
    keep[:] = np.packbits(mask.ravel())
    scan = replace(scan, keep=keep)
    whole = frame_map(scan, 2)
    part, rows, columns = kept_part(scan, 2)
    assert part.confidence.shape == (72, 72) == (rows.stop - rows.start, columns.stop - columns.start)
    both = (part.confidence > 0) & (whole.confidence[rows, columns] > 0)
    assert both.sum() > 0.98 * (whole.confidence > 0).sum() > 100
    assert np.allclose(part.normals[both], whole.normals[rows, columns][both], atol=1e-5)


def test_a_frame_with_nothing_kept_gives_an_empty_rectangle() -> None:
    state = rendered_state(lambda p: p[..., 2] + 1000, ring_of_views(1, 100.0, (80.0,), (0, 0, 0)), CAMERA)
    part, _, _ = kept_part(state.passes[0], 0)
    assert not part.confidence.any() and part.noise_mm == 0.0


def test_images_read_last_are_held_within_bounds(captures, monkeypatch) -> None:
    folder = CaptureFolder(captures[0])
    first, shown = folder.depth(0), folder.colour(0)
    monkeypatch.setattr(folder, "_open", lambda *_: pytest.fail("read again"))
    assert np.array_equal(folder.depth(0), first) and np.array_equal(folder.colour(0), shown)
    again, part = folder.depth(0), folder.colour(0, (slice(20, 60), slice(30, 90)))
    assert np.array_equal(part, shown[20:60, 30:90])
    again[:], part[:] = 0, 0
    assert np.array_equal(folder.depth(0), first) and np.array_equal(folder.colour(0), shown)


def test_no_more_images_are_held_than_go_into_the_memory_for_them(monkeypatch) -> None:
    monkeypatch.setattr(capture_folder, "HELD_BYTES", 3 * 1000)
    read: list[int] = []

    def one(index: int) -> np.ndarray:
        read.append(index)
        return np.full(1000, index, np.uint8)

    held = Held()
    for index in (0, 1, 2, 0, 3, 0, 2):
        assert (held.image(index, one) == index).all()
    assert read == [0, 1, 2, 3], "the one asked for longest ago goes first"
    held.image(1, one)
    assert read[-1] == 1


def test_a_source_travels_without_the_images_it_holds(captures) -> None:
    folder = CaptureFolder(captures[0])
    alone = len(pickle.dumps(folder))
    folder.depth(1)
    folder.colour(1)
    sent = pickle.dumps(folder)
    assert len(sent) == alone and np.array_equal(pickle.loads(sent).depth(1), folder.depth(1))


def test_depths_asked_for_twice_are_held_within_bounds(captures, monkeypatch) -> None:
    scan = CaptureFolder(captures[0]).as_pass()
    one = kept_depth(scan, 0)
    size = one.depth.nbytes + one.wanted.nbytes + one.camera.rays.nbytes
    monkeypatch.setattr("lucid_relic.geometry.depth_map.HELD_BYTES", size)
    held = KeptDepths()
    first, second = held.of(scan, 0), held.of(scan, 1)
    assert held.of(scan, 0) is first and held.of(scan, 1) is not second
    assert np.array_equal(held.of(scan, 1).depth, second.depth)


def test_gathered_points_and_unseen_texels_survive_a_snapshot(processed, tmp_path) -> None:
    state = processed[0]
    rng = np.random.default_rng(5)
    cloud = PointCloud(rng.normal(size=(50, 3)).astype(np.float32), None, np.zeros((50, 3), np.uint8))
    kept = ScanState(state.passes, mesh=state.mesh, points=cloud)
    store = ArrayStore(tmp_path)
    again = load_state(save_state(kept, store), store, lambda key: CaptureFolder(key).as_pass())
    assert np.array_equal(again.points.points, cloud.points) and again.points.normals is None
    assert np.array_equal(again.mesh.texture.unseen, state.mesh.texture.unseen)


def test_snapshots_from_before_still_load(processed, tmp_path) -> None:
    store = ArrayStore(tmp_path)
    manifest = save_state(processed[0], store)
    del manifest["points"]
    del manifest["mesh"]["texture"]["unseen"]
    again = load_state(manifest, store, lambda key: CaptureFolder(key).as_pass())
    assert again.points is None and again.mesh.texture.unseen is None


def test_points_move_with_their_normals() -> None:
    cloud = PointCloud(np.array([[1, 0, 0]], np.float32), np.array([[1, 0, 0]], np.float32))
    quarter = np.array([[0, -1, 0, 5], [1, 0, 0, 0], [0, 0, 1, 0], [0, 0, 0, 1.0]])
    moved = cloud.transformed(quarter)
    assert np.allclose(moved.points, [[5, 1, 0]]) and np.allclose(moved.normals, [[0, 1, 0]])


def test_free_memory_is_told() -> None:
    assert 10**8 < available_bytes() < 10**14


@pytest.mark.parametrize("seed", range(6))
def test_the_extent_of_a_mask_is_what_numpy_finds(seed: int) -> None:
    rng = np.random.default_rng(seed)
    mask = np.zeros((40, 60), bool)
    mask[rng.integers(0, 40, seed + 1), rng.integers(0, 60, seed + 1)] = True
    rows, columns = np.flatnonzero(mask.any(axis=1)), np.flatnonzero(mask.any(axis=0))
    assert _kernels.extent(mask) == (rows[0], rows[-1], columns[0], columns[-1])
    assert _kernels.extent(np.zeros((40, 60), bool)) == (0, 0, 0, 0)


def test_usual_scatter_and_depth_are_medians_of_what_is_clear() -> None:
    rng = np.random.default_rng(2)
    depth, residual, confidence = (rng.uniform(0.1, 1, (31, 45)).astype(np.float32) for _ in range(3))
    clear = confidence[::2, ::2] > 0.3
    _, scatter, middle = _kernels.noise_scatter_and_depth(depth, residual, confidence, 2, 0.3)
    assert scatter == pytest.approx(np.median(residual[::2, ::2][clear]), abs=1e-7)
    assert middle == pytest.approx(np.median(depth[::2, ::2][clear]), abs=1e-7)
    assert _kernels.noise_scatter_and_depth(depth, residual, 0 * confidence, 2, 0.3) == (0.0, 0.0, 1.0)


def test_the_noise_told_is_that_of_pixels_whatever_bends() -> None:
    """A surface in waves of a few pixels, whose residuals say mostly how it bends."""
    u = np.mgrid[:120, :160][1]
    told = []
    for noise in (0.05, 0.3):
        depth = 350 + 0.4 * u + 1.5 * np.sin(u / 3)
        depth += noise * np.random.default_rng(4).normal(size=depth.shape)
        told.append(depth_map(depth.astype(np.float32), Camera.centred(160, 120, 230.0)))
    assert told[0].scatter_mm > 1.6 * 0.05
    assert [surface.noise_mm for surface in told] == pytest.approx([0.05, 0.3], rel=0.15)


def test_what_a_device_has_smoothed_is_not_told_to_have_no_noise() -> None:
    rng = np.random.default_rng(5)
    smooth = gaussian_filter(rng.normal(size=(120, 160)), 1.5)
    depth = 350 + 0.05 * smooth / smooth.std()
    surface = depth_map(depth.astype(np.float32), Camera.centred(160, 120, 230.0))
    assert 0.3 * surface.scatter_mm < surface.noise_mm <= surface.scatter_mm
