"""Blocks of a fusion and places of charts, against plain counting in numpy."""

import numpy as np
import pytest
from scenes import knot_field, rendered_state, ring_of_views, unpacked

from lucid_relic.colour import _kernels as colour_kernels
from lucid_relic.fusion import _kernels, tsdf
from lucid_relic.fusion.tsdf import allocate, frames_to_fuse
from lucid_relic.geometry.depth_map import depth_map
from lucid_relic.geometry.rigid import transform_points
from lucid_relic.progress import silent
from lucid_relic.types import Camera, ScanState

CAMERA = Camera.centred(160, 120, 260.0)
VOXEL, TRUNCATION = 1.0, 4.0


@pytest.fixture(scope="module")
def views() -> ScanState:
    return rendered_state(knot_field, ring_of_views(4, 150.0, (25.0,), (0, 0, 15)), CAMERA)


def test_every_measured_point_has_its_block_and_its_frame_knows_it(views: ScanState) -> None:
    frames = frames_to_fuse(views)
    coords, touched = allocate(frames, np.zeros(3), VOXEL, TRUNCATION, silent)
    assert len(np.unique(coords, axis=0)) == len(coords)
    scan = views.passes[0]
    for (_, index), own in zip(frames, touched, strict=True):
        depth = scan.source.depth(index)
        surface = depth_map(depth, CAMERA)
        points = transform_points(scan.T_object_camera(index), surface.points(surface.confidence > 0).astype(float))
        cells, count = np.unique(np.floor(points / (8 * VOXEL)).astype(int), axis=0, return_counts=True)
        known = (cells[:, None] == coords[own][None]).all(axis=2).any(axis=1)
        # Every third pixel each way is asked: a corner of a block that the surface just cuts may be missed.
        assert len(cells) > 20 and count[~known].max(initial=0) < 9
        assert (np.diff(own) > 0).all()


def test_blocks_found_in_one_go_or_bit_by_bit_are_the_same(views: ScanState, monkeypatch) -> None:
    whole = allocate(frames_to_fuse(views), np.zeros(3), VOXEL, TRUNCATION, silent)
    monkeypatch.setattr(tsdf, "MERGE_EVERY", 1)
    monkeypatch.setattr(tsdf, "FIRST_TABLE", 64)
    single = allocate(frames_to_fuse(views), np.zeros(3), VOXEL, TRUNCATION, silent)
    assert np.array_equal(whole[0], single[0])
    assert all(np.array_equal(a, b) for a, b in zip(whole[1], single[1], strict=True))


def test_a_packed_pixel_keeps_its_plane_and_its_colour(views: ScanState) -> None:
    surface = depth_map(views.passes[0].source.depth(1), CAMERA)
    height, width = surface.depth.shape
    turn = views.passes[0].T_object_camera(1)[:3, :3]
    image = np.random.default_rng(3).integers(0, 256, (height, width, 3), np.uint8)
    image[40:70, 60:90] = 253
    # As they come from memory that held something else before.
    packed, tiles = np.full(3 * (height * width + 1), -7, np.int32), np.full((15, 20), 9e9, np.float32)
    _kernels.packed_surface(
        surface.depth, surface.normals, surface.confidence, CAMERA.rays, turn, image, 250, 0.25, packed, tiles
    )
    words = packed.reshape(-1, 3)
    usable = surface.confidence.ravel() > 0
    assert usable.sum() > 1000 and not words[:-1][~usable].any() and not words[-1].any()
    plane, normals, confidence, colour = unpacked(words[:-1][usable])
    assert np.abs(normals - surface.normals.reshape(-1, 3)[usable] @ turn.T).max() < 1.01e-3
    assert np.array_equal(colour, image.reshape(-1, 3)[usable])
    wanted = surface.confidence * np.where((image >= 250).all(axis=2), 0.25, 1.0)
    assert (wanted < 0.2).ravel()[usable].sum() > 20
    step = _kernels.MOST / 255
    assert wanted.max() > 1 and np.abs(confidence - np.maximum(wanted.ravel()[usable], step)).max() < 0.51 * step
    # The plane of the rounded normal passes through the pixel's own point; both along the object's axes.
    points = surface.points(surface.confidence > 0) @ turn.T
    assert np.abs(np.einsum("ij,ij->i", normals, points) - plane).max() < 1e-3
    deepest = np.where(surface.confidence > 0, surface.depth, 0).reshape(15, 8, 20, 8).max(axis=(1, 3))
    assert np.array_equal(tiles, deepest)


def test_long_rows_are_packed_run_by_run_as_their_parts_are() -> None:
    rng = np.random.default_rng(8)
    shape = 19, 2 * _kernels.RUN + 77
    depth = rng.uniform(200.0, 300.0, shape).astype(np.float32)
    normals = rng.normal(size=(*shape, 3)).astype(np.float32)
    normals /= np.linalg.norm(normals, axis=2, keepdims=True)
    confidence = np.maximum(rng.uniform(-0.5, 1.0, shape), 0.0).astype(np.float32)
    rays = rng.uniform(-0.3, 0.3, (*shape, 2)).astype(np.float32)

    def packed(columns: slice) -> tuple[np.ndarray, np.ndarray]:
        parts = [np.ascontiguousarray(x[:, columns]) for x in (depth, normals, confidence, rays)]
        wide = parts[0].shape[1]
        out, tiles = np.empty(3 * (19 * wide + 1), np.int32), np.empty((3, -(-wide // 8)), np.float32)
        _kernels.packed_surface(*parts, np.eye(3), np.zeros((0, 0, 3), np.uint8), 250, 0.25, out, tiles)
        return out[:-3].reshape(19, wide, 3), tiles

    whole, tiles = packed(slice(None))
    for begin in (0, 496, 1016):
        columns = slice(begin, begin + 40)
        part, few = packed(columns)
        assert np.array_equal(part[..., 1:], whole[:, columns, 1:])
        assert np.abs(np.subtract(*(x[..., 0].copy().view(np.float32) for x in (part, whole[:, columns])))).max() < 1e-3
        assert np.array_equal(few, tiles[:, begin // 8 : begin // 8 + 5])


def test_blocks_follow_a_curve_that_stays_near() -> None:
    grid = np.stack(np.meshgrid(*3 * [np.arange(8)], indexing="ij"), -1).reshape(-1, 3)
    places = tsdf._along_a_curve(grid + _kernels.HALF_SPAN)
    along = grid[np.argsort(places)]
    assert len(np.unique(places)) == 512
    # Every eight in turn fill a cube of two blocks' side, every sixty-four one of four.
    for side, run in ((2, 8), (4, 64)):
        assert (np.ptp(along.reshape(-1, run, 3), axis=1) == side - 1).all()


def test_a_blocks_colour_is_the_weighted_mean() -> None:
    rng = np.random.default_rng(8)
    weights, colours = rng.uniform(0.1, 2, (5, 512)), rng.integers(0, 256, (5, 512, 3))
    weights[:, :7] = 0
    sums = np.concatenate([(weights[..., None] * colours).sum(axis=0).T, weights.sum(axis=0)[None]])
    out = np.empty((1, 512, 3), np.uint8)
    _kernels.mean_colours(sums.astype(np.float32).reshape(1, -1), out)
    assert not out[0, :7].any()
    mean = (weights[:, 7:, None] * colours[:, 7:]).sum(axis=0) / weights[:, 7:].sum(axis=0)[:, None]
    assert np.abs(out[0, 7:] - mean).max() < 0.501


def blobs(rng: np.random.Generator, count: int) -> list[np.ndarray]:
    """Masks of rounded shapes, some with a hole."""
    out = []
    for n in range(count):
        a, b = rng.integers(4, 16, 2)
        y, x = np.mgrid[-a : a + 1, -b : b + 1]
        r = (x / (b + 0.5)) ** 2 + (y / (a + 0.5)) ** 2
        out.append((r < 1) & ((n % 3 > 0) | (r > 0.3)))
    return out


def spans_of(mask: np.ndarray) -> list[tuple[int, int, int]]:
    out = []
    for y, line in enumerate(mask):
        edges = np.flatnonzero(np.diff(np.concatenate([[0], line.astype(int), [0]])))
        out += [(y, a, b - 1) for a, b in zip(edges[::2], edges[1::2], strict=True)]
    return out


def test_charts_get_the_free_place_with_the_lowest_middle_that_counting_finds() -> None:
    side, masks = 128, blobs(np.random.default_rng(5), 24)
    ways = [masks, [np.rot90(m) for m in masks]]
    spans = [[spans_of(m) for m in way] for way in ways]
    ends = np.cumsum([0] + [len(s) for way in spans for s in way])
    begin = np.stack([ends[:25], ends[24:]])
    row, left, right = np.array([p for way in spans for s in way for p in s]).T.copy()
    place, way = np.zeros((24, 2), np.int64), np.zeros(24, np.int64)
    assert colour_kernels.pack(np.arange(24), begin, row, left, right, side, place, way)
    taken = np.zeros((side, side), bool)
    for c, (x, y) in enumerate(place):
        best = []
        for w in range(2):
            mask = ways[w][c]
            high, wide = mask.shape
            j, i = next(
                (j, i)
                for j in range(side - high + 1)
                for i in range(side - wide + 1)
                if not (taken[j : j + high, i : i + wide] & mask).any()
            )
            best.append((j + np.nonzero(mask)[0].mean(), w, j, i))
        assert (way[c], y, x) == min(best)[1:]
        mask = ways[way[c]][c]
        taken[y : y + mask.shape[0], x : x + mask.shape[1]] |= mask
    assert taken.sum() == sum(int(m.sum()) for m in masks) and 0 < way.sum() < 24


def test_charts_that_do_not_fit_are_told() -> None:
    mask = np.ones((20, 20), bool)
    row, left, right = np.array(spans_of(mask) * 2).T.copy()
    begin = np.array([[0, 20, 40]])
    place, way = np.zeros((2, 2), np.int64), np.zeros(2, np.int64)
    assert not colour_kernels.pack(np.arange(2), begin, row, left, right, 30, place, way)
    assert colour_kernels.pack(np.arange(2), begin, row, left, right, 40, place, way)
