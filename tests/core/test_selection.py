"""Marks found again: outlines by an independent rule, what is seen, what hangs together, thin and full data alike."""

import json
from dataclasses import replace

import marked_sample
import numpy as np
import pytest
from PIL import Image, ImageDraw
from scenes import grid_plane, joined, knot_field, rendered_state, ring_of_views, uv_sphere

from lucid_relic.geometry.depth_map import frame_map
from lucid_relic.geometry.rigid import transform_points
from lucid_relic.progress import silent
from lucid_relic.selection.marked import Marking, marked_faces, marked_pixels
from lucid_relic.selection.outline import within_outline
from lucid_relic.types import (
    BallStroke,
    Camera,
    JoinedStroke,
    Marks,
    ScanState,
    ScreenStroke,
    TriangleMesh,
    View,
    ViewLine,
)
from lucid_relic.view.pass_view import pass_view

SIDE = 200.0  # mm from the eye to the middle


def front_view(width: int = 400, height: int = 300) -> View:
    """Looking along +y at the origin with z up: x right, y down the picture."""
    pose = np.array([[1, 0, 0, 0], [0, 0, -1, 0], [0, 1, 0, SIDE], [0, 0, 0, 1.0]])
    return View(tuple(map(tuple, pose.tolist())), 30.0, width, height)


def stroke(shape: str, points: list, **more) -> ScreenStroke:
    return ScreenStroke(shape, tuple(map(tuple, points)), front_view(), **more)


def to_eye(points: np.ndarray) -> np.ndarray:
    """Normals of a surface that faces the eye of the front view."""
    return np.broadcast_to([0.0, -1.0, 0.0], points.shape)


@pytest.fixture(scope="module")
def lump() -> ScanState:
    return rendered_state(
        knot_field, ring_of_views(8, 150.0, (30.0, -15.0), (0, 0, 24)), Camera.centred(160, 120, 260.0)
    )


def test_a_view_is_the_camera_it_says(lump: ScanState) -> None:
    view = front_view()
    # By hand: half the height of the picture is tan(15°) away at the unit distance; pixel centres are whole numbers.
    top = SIDE * np.tan(np.radians(15.0))
    pixels, depth = view.project(np.array([[0, 0, 0], [0, 0, top], [10, 50, 0], [0, -SIDE - 1, 0]], float))
    assert np.allclose(pixels[0], [199.5, 149.5]) and depth[0] == pytest.approx(SIDE)
    assert np.allclose(pixels[1], [199.5, -0.5])
    assert depth[2] == pytest.approx(SIDE + 50) and np.isnan(pixels[3]).all()
    ray = view.ray((199.5, -0.5))
    assert np.allclose(view.eye, [0, -SIDE, 0]) and np.allclose(view.eye + ray * SIDE / ray[1], [0, 0, top])


def test_a_line_makes_the_plane_that_stands_on_it_and_keeps_its_left() -> None:
    view = front_view()
    places = np.array([[-30, 5, 12], [40, -7, 12.0 * (SIDE - 7) / (SIDE + 5)]])
    pixels, _ = view.project(places)
    plane = ViewLine(tuple(pixels[0]), tuple(pixels[1]), view).plane()
    assert np.linalg.norm(plane[:3]) == pytest.approx(1)
    assert np.allclose(places @ plane[:3], plane[3]), "the plane must hold what lies under the line"
    assert view.eye @ plane[:3] == pytest.approx(plane[3]), "and the eye"
    assert np.array([0, 0, 50]) @ plane[:3] > plane[3] > np.array([0, 0, -50]) @ plane[:3]
    back = ViewLine(tuple(pixels[1]), tuple(pixels[0]), view).plane()
    assert np.allclose(back, -plane)


def drawn(corners: list) -> np.ndarray:
    """Pixels (h, w) inside a polygon as Pillow fills it: a reference that knows nothing of our rule."""
    image = Image.new("1", (400, 300))
    ImageDraw.Draw(image).polygon([tuple(c) for c in corners], fill=1)
    return np.asarray(image)


@pytest.mark.parametrize("corners", [
    [[50, 40], [300, 80], [220, 250]],
    [[60, 60], [350, 60], [350, 200], [200, 90], [60, 200]],
    [[200, 20], [240, 260], [60, 100], [340, 100], [120, 280]],
])  # fmt: skip
def test_polygons_hold_what_a_reference_fills(corners: list) -> None:
    grid = np.stack(np.meshgrid(np.arange(400), np.arange(300)), axis=-1).reshape(-1, 2).astype(float)
    inside = within_outline(stroke("polygon", corners), grid).reshape(300, 400)
    differs = inside != drawn(corners)
    # Only pixels that the outline itself runs through may be decided otherwise.
    ring = np.zeros((300, 400), bool)
    rows, columns = np.nonzero(differs)
    a = np.array(corners, float)
    for y, x in zip(rows, columns, strict=True):
        b = np.roll(a, -1, axis=0)
        share = np.clip((((x, y) - a) * (b - a)).sum(1) / ((b - a) ** 2).sum(1), 0, 1)
        ring[y, x] = np.linalg.norm(a + share[:, None] * (b - a) - (x, y), axis=1).min() < 1.0
    assert inside.sum() > 1000 and (differs <= ring).all()


def test_boxes_and_brushes_are_what_their_formulas_say() -> None:
    rng = np.random.default_rng(1)
    pixels = rng.uniform(0, 300, (4000, 2))
    box = within_outline(stroke("box", [[250, 40], [60, 200]]), pixels)
    assert np.array_equal(box, (pixels >= [60, 40]).all(1) & (pixels <= [250, 200]).all(1))
    dot = within_outline(stroke("brush", [[100, 100]], radius_px=30), pixels)
    assert np.array_equal(dot, np.hypot(*(pixels - 100).T) <= 30)
    path = within_outline(stroke("brush", [[50, 100], [250, 100]], radius_px=20), pixels)
    along = np.clip(pixels[:, 0], 50, 250)
    assert np.array_equal(path, np.hypot(pixels[:, 0] - along, pixels[:, 1] - 100) <= 20)
    assert not within_outline(stroke("box", [[0, 0], [400, 300]]), np.full((3, 2), np.nan)).any()


def shells() -> np.ndarray:
    """Two sheets facing the eye, 40 mm apart, one point a millimetre."""
    x, z = np.meshgrid(np.arange(-20, 21.0), np.arange(-20, 21.0))
    sheet = np.column_stack([x.ravel(), np.zeros(x.size), z.ravel()])
    return np.concatenate([sheet - [0, 20, 0], sheet + [0, 20, 0]])


def test_through_takes_what_is_behind_and_seen_does_not() -> None:
    points = shells()
    whole = [[0, 0], [399, 299]]
    through = Marking(Marks((stroke("box", whole, through=True),)), points, to_eye(points), 1.0).marked(
        points, to_eye(points)
    )
    assert through.all()
    seen = Marking(Marks((stroke("box", whole),)), points, to_eye(points), 1.0).marked(points, to_eye(points))
    away = Marking(Marks((stroke("box", whole),)), points, to_eye(points), 1.0).marked(points, -to_eye(points))
    assert not away.any(), "what faces away is not seen, however near it is"
    front = points[:, 1] < 0
    assert seen[front].all() and seen[~front].mean() < 0.05
    # Seen from the side of the picture's edge, what lies outside the view is not seen.
    far = np.array([[500.0, 0, 0]])
    assert (
        not Marking(Marks((stroke("box", [[-900, -900], [900, 900]]),)), points, to_eye(points), 1.0)
        .marked(far, to_eye(far))
        .any()
    )


def test_strokes_add_take_and_turn_round_in_their_order() -> None:
    points = shells()
    left = stroke("box", [[0, 0], [200, 299]], through=True)
    all_of_it = stroke("box", [[0, 0], [399, 299]], through=True)

    def take(*strokes: ScreenStroke, invert: bool = False) -> np.ndarray:
        return Marking(Marks(strokes, invert), points, to_eye(points), 1.0).marked(points, to_eye(points))

    one, rest = take(left), take(all_of_it, replace(left, add=False))
    assert 0 < one.sum() < len(points) and np.array_equal(rest, ~one)
    assert np.array_equal(take(replace(left, add=False), all_of_it), np.ones(len(points), bool))
    assert np.array_equal(take(left, invert=True), ~one)
    assert take(invert=True).all() and not take().any()


def test_balls_hold_what_lies_within_their_path() -> None:
    points = np.random.default_rng(3).uniform(-10, 10, (3000, 3))
    ball = BallStroke(((0.0, 0, 0), (6.0, 0, 0)), 3.0)
    marked = Marking(Marks((ball,)), points, to_eye(points), 1.0).marked(points, to_eye(points))
    nearest = np.stack([np.clip(points[:, 0], 0, 6), np.zeros(3000), np.zeros(3000)], axis=1)
    assert np.array_equal(marked, np.linalg.norm(points - nearest, axis=1) <= 3.0)


@pytest.mark.parametrize(("gap", "reaches"), [(2.0, False), (12.0, True)])
def test_what_hangs_together_ends_at_a_gap(gap: float, reaches: bool) -> None:
    sheet = np.argwhere(np.ones((20, 20))).astype(float)
    points = np.concatenate([np.c_[sheet, np.zeros(400)], np.c_[sheet, np.full(400, 8.0)]])
    marking = Marking(Marks((JoinedStroke((5.2, 5.1, 0.3), gap),)), points, to_eye(points), 1.0)
    marked = marking.marked(points, to_eye(points))
    assert marked[:400].all() and marked[400:].all() == reaches and marked[400:].any() == reaches
    other = np.random.default_rng(2).uniform(0, 19, (500, 2))
    between = marking.marked(np.c_[other, np.zeros(500)], np.zeros((500, 3)))
    assert between.all(), "the same surface sampled otherwise must get the same answer"


def test_full_data_get_the_answer_of_the_view_that_was_marked(lump: ScanState) -> None:
    scan = lump.passes[0]
    shown = pass_view(scan)
    marks = Marks((
        stroke("lasso", [[150, 60], [260, 60], [270, 200], [140, 190]]),
        BallStroke(((8.0, 4.0, 36.0), (22.0, 14.0, 52.0)), 6.0),
        replace(stroke("box", [[180, 0], [220, 299]], through=True), add=False),
    ))  # fmt: skip
    marking = Marking(marks, shown.cloud.points, shown.cloud.normals, 1.0)
    thin = marking.marked(shown.cloud.points, shown.cloud.normals)
    found = marked_pixels(scan, marking, silent)
    bits = found.bits
    total = usable = 0
    agree = np.zeros(len(shown), bool)
    for index in range(scan.frame_count):
        mask = np.unpackbits(bits[index], count=160 * 120).astype(bool)
        surface = frame_map(scan, index)
        seen = surface.confidence > 0
        places = transform_points(scan.T_object_camera(index), surface.points(seen, surface.unshrunk()).astype(float))
        normals = surface.normals[seen] @ scan.T_object_camera(index)[:3, :3].T
        assert np.array_equal(mask[seen.ravel()], marking.marked(places, normals)) and not mask[~seen.ravel()].any()
        own = shown.frame == index
        agree[own] = mask[shown.pixel[own]] == thin[own]
        total, usable = total + int(mask.sum()), usable + int(seen.sum())
    assert (found.chosen, found.usable) == (total, usable)
    # A point that is shown is the mean of its cell: at the rim of a stroke its own pixel may lie on the other side.
    assert agree.mean() > 0.97
    share = shown.stands_for[thin].sum() / shown.stands_for.sum()
    assert 0.05 < share < 0.6 and abs(total / usable - share) < 0.01


def test_triangles_are_marked_by_their_middles_and_seen_ones_face_the_eye() -> None:
    ball = uv_sphere(30.0)
    seen = marked_faces(ball, Marks((stroke("box", [[0, 0], [399, 299]]),)))
    middles, normals = ball.corners.mean(axis=1), ball.face_normals()
    facing = np.einsum("ij,ij->i", normals, front_view().eye - middles) > 0
    # A ball hides nothing of its front: seen is what faces the eye.
    assert np.array_equal(seen, facing)
    behind = joined(ball, TriangleMesh(ball.vertices + np.float32([45, 90, 0]), ball.faces))
    both = marked_faces(behind, Marks((stroke("box", [[0, 0], [399, 299]]),)))
    assert np.array_equal(both[: len(ball.faces)], facing) and 0 < both[len(ball.faces) :].sum() < 0.8 * facing.sum()
    assert marked_faces(ball, Marks((stroke("box", [[0, 0], [399, 299]], through=True),))).all()


def test_joined_triangles_stop_at_creases_and_at_pieces() -> None:
    flat = grid_plane(10, 10, 1)
    wall = TriangleMesh(flat.vertices[:, [0, 2, 1]] * np.float32([1, 1, 1]), flat.faces)
    apart = TriangleMesh(flat.vertices + np.float32([0, 0, 5.5]), flat.faces)
    both = joined(flat, wall, apart)
    unique, index = np.unique(both.vertices, axis=0, return_inverse=True)
    mesh = TriangleMesh(unique, index.reshape(-1)[both.faces].astype(np.int32))
    count = len(flat.faces)
    part = lambda crease: marked_faces(mesh, Marks((JoinedStroke((5.0, 5.0, 0.0), 0.0, crease),)))  # noqa: E731
    assert part(30.0)[:count].all() and part(30.0).sum() == count
    assert part(180.0)[: 2 * count].all() and part(180.0).sum() == 2 * count


def test_the_sample_that_the_front_end_reads_is_what_the_core_gives() -> None:
    assert json.loads(marked_sample.FILE.read_text()) == json.loads(json.dumps(marked_sample.sample()))
