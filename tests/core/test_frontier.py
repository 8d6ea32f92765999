"""What is captured and what is not, on a sphere whose captured share is known, and what a move gains against what came."""

import numpy as np
from scenes import sphere_depth

from lucid_relic.alignment.views import STRIDE
from lucid_relic.capture.instruments import instrument
from lucid_relic.geometry.rigid import about_axis, looking_down
from lucid_relic.planning.coverage import ENOUGH
from lucid_relic.planning.frontier import Frontier
from lucid_relic.tracking.quick_view import quick_frame
from lucid_relic.types import Camera

CAMERA, RADIUS, AWAY = Camera.centred(320, 240, 700.0), 30.0, 200.0
UP = np.array([0.0, 0.0, 1.0])
FLOOR = np.array([0.0, 0.0, 1.0, -RADIUS])
NEED = ENOUGH["print"]


def empty(floor: np.ndarray | None = FLOOR) -> Frontier:
    return Frontier(np.full(3, -RADIUS), np.full(3, RADIUS), UP, floor)


def look(frontier: Frontier, around_deg: float, up_deg: float, count: int = 2) -> None:
    view = quick_frame(0, sphere_depth(CAMERA, np.array([0, 0, AWAY]), RADIUS), None, CAMERA).view
    pose = about_axis(np.zeros(3), UP, np.radians(around_deg)) @ looking_down(AWAY, up_deg)
    frontier.look(pose, view.cam, STRIDE, view.fitted, view.normals, count)


def test_one_look_frees_what_lies_before_and_the_rest_stays_unknown() -> None:
    frontier = empty()
    look(frontier, 0.0, 20.0)
    border = frontier.border()
    seen = border.seen.times > 0
    away = np.linalg.norm(border.places, axis=1)
    assert np.abs(away[seen] - RADIUS).max() < 2.5 * frontier.cell_mm and seen.sum() > 500
    # Measured places look outwards, towards the head at the front (-y); none lies under the floor.
    outward = np.einsum("ij,ij->i", border.normals[seen], border.places[seen]) / away[seen]
    assert np.median(outward) > 0.98 and np.median(border.places[seen, 1]) < 0
    assert border.places[:, 2].min() > -RADIUS + frontier.cell_mm


def test_a_move_gains_no_more_than_was_said_and_all_round_nothing_is_left() -> None:
    frontier, sheet = empty(), instrument("hand")
    look(frontier, 0.0, 20.0)
    for _ in range(3):
        before, moves = frontier.moves(sheet, NEED)
        around, up, _ = frontier.bearing(moves[0].eye)
        assert 1 / 3 <= moves[0].common <= 1
        look(frontier, around - frontier.bearing(looking_down(AWAY, 0.0)[:3, 3])[0], up)
        after, _ = frontier.moves(sheet, NEED)
        # What nobody has seen is as large as its hull: of a round body less comes than was said, but never more.
        assert moves[0].gain / 3 < after - before < moves[0].gain + 0.02
    for around in range(0, 360, 30):
        look(frontier, around, 12.0)
        look(frontier, around, 52.0)
    share, moves = frontier.moves(sheet, NEED)
    # But for a band beside the floor, which every held head sees at too flat a slant.
    assert share > 0.9 and all(move.gain < 0.02 for move in moves)


def test_seldom_or_from_few_sides_is_not_enough_for_every_use() -> None:
    frontier = empty()
    look(frontier, 0.0, 20.0, count=1)
    seen = frontier.border().seen
    assert not seen.enough(ENOUGH["print"]).any()
    look(frontier, 0.0, 20.0, count=9)
    seen = frontier.border().seen
    assert seen.enough(ENOUGH["print"]).sum() > 300 and not seen.enough(ENOUGH["cad"]).any()
    look(frontier, 50.0, 20.0, count=9)
    assert frontier.border().seen.enough(ENOUGH["cad"]).any()
    level = frontier.level_at(np.array([[0.0, -RADIUS, 0.0], [0.0, RADIUS, 0.0], [500.0, 0, 0]]), ENOUGH["print"])
    assert level[0] > 0.95 and level[1] == 0 and level[2] == 0


def test_what_was_measured_is_not_freed_by_looks_for_which_it_is_too_steep() -> None:
    frontier = empty()
    look(frontier, 0.0, 20.0)
    before = int(frontier.border().seen.enough(NEED).sum())
    for around in (-70.0, -60.0, 60.0, 70.0):
        view = quick_frame(0, sphere_depth(CAMERA, np.array([0, 0, AWAY]), RADIUS), None, CAMERA).view
        pose = about_axis(np.zeros(3), UP, np.radians(around)) @ looking_down(AWAY, 20.0)
        # A device to which all that is steeper than 40° answers nothing: a wide band along the rim.
        steep = -(view.normals * np.dstack([view.rays, np.ones(view.fitted.shape)])).sum(axis=2) < np.cos(
            np.radians(40)
        )
        frontier.look(pose, view.cam, STRIDE, np.where(steep, 0, view.fitted).astype(np.float32), view.normals, 1)
    assert frontier.border().seen.enough(NEED).sum() >= before


def test_an_object_that_outgrows_its_grid_is_noticed() -> None:
    frontier = empty(None)
    assert not frontier.outgrown(np.full(3, -RADIUS - 1), np.full(3, RADIUS), 2.0)
    assert frontier.outgrown(np.full(3, -RADIUS), np.array([RADIUS, RADIUS + 9, RADIUS]), 2.0)
