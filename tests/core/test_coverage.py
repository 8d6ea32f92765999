"""Coverage: how often, how squarely and from how many sides, against looks worked out by hand and the simulator's truth."""

from pathlib import Path

import numpy as np
import pytest
from scenes import knot_model, seen_times, uv_sphere

from lucid_relic.capture.instruments import instrument
from lucid_relic.capture.virtual import TurntablePlan, VirtualScanner
from lucid_relic.desk.coverage import LAID, LEAST_COMMON, Lay, judge, placed_coarsely
from lucid_relic.errors import ParameterError, StepNotPossible
from lucid_relic.geometry.sight import Sight
from lucid_relic.io.capture_folder import CaptureFolder
from lucid_relic.planning.coverage import ENOUGH, covered, enough_for, never
from lucid_relic.planning.paths import turn_path
from lucid_relic.progress import silent
from lucid_relic.types import ScanState

UP = np.tile([0, 0, 1.0], (3, 1))
PLACES = np.array([[0, 0, 0], [50, 0, 0], [0, 80, 0]], float)


def looks(*eyes: tuple[float, float, float]):
    return covered(PLACES, UP, np.ones((len(eyes), 3), bool), np.array(eyes, float))


def test_times_slants_and_sides_are_counted() -> None:
    seen = looks((0, 0, 100), (0, 0, 200), (100, 0, 10))
    assert seen.times.tolist() == [3, 3, 3]
    assert seen.cos[0] == pytest.approx(1.0) and seen.cos[1] == pytest.approx(200 / np.hypot(50, 200), abs=1e-5)
    assert np.bitwise_count(seen.sides).tolist()[0] == 2, "twice from above, once from the side"
    below = looks((0, 0, -100))
    assert below.times.tolist() == [0, 0, 0] and not below.enough(ENOUGH["print"]).any()


def test_what_is_enough_asks_all_three() -> None:
    need = ENOUGH["cad"]
    assert not looks((0, 0, 100)).enough(need).any()
    above = looks(*[(0, 0, 100.0 + k) for k in range(6)])
    assert not above.enough(need)[0], "from one side only"
    around = looks((0, 0, 100), (60, 0, 80), (-60, 0, 80), (0, 60, 80))
    assert around.enough(need)[0]
    slanted = looks(*[(300 * np.cos(a), 300 * np.sin(a), 30.0) for a in np.arange(6)])
    assert not slanted.enough(need)[0]
    level = around.level(need)
    assert level[0] == 1.0 and (looks((0, 0, 100)).level(need) < 1).all() and (never(3).level(need) == 0).all()
    assert (around.joined(slanted).level(need) >= level).all()


def test_uses_are_named() -> None:
    assert enough_for("print").times <= enough_for("cad").times
    with pytest.raises(ParameterError, match="there are print, screen, cad"):
        enough_for("soup")


def test_sight_is_blocked_by_what_lies_between() -> None:
    mesh = uv_sphere(20.0)
    places = mesh.face_centres().astype(float)
    normals = places / np.linalg.norm(places, axis=1, keepdims=True)
    seen = Sight(mesh).sees(np.array([0, 0, 100.0]), places, normals, 89.0)
    # The cap that an eye sees of a ball reaches down to z = r²/d.
    assert places[seen, 2].min() > 20**2 / 100 - 1.0 and seen[places[:, 2] > 20**2 / 100 + 1.5].all()
    assert Sight(mesh).sees(np.zeros(3), places, -normals, 89.0).all(), "all of the inside is seen from the middle"


@pytest.fixture(scope="module")
def judged(captures):
    """The lump judged by its upright pass, and by both."""
    upright, tipped = (CaptureFolder(Path(c)).as_pass() for c in captures[:2])
    out = []
    for passes in ((upright,), (upright, tipped)):
        state = placed_coarsely(ScanState(passes), silent)
        out.append(judge(state, ENOUGH["print"], instrument("desk"), silent))
    return out


def test_a_second_pass_raises_what_is_seen_and_the_next_ones_would_add_to_it(judged) -> None:
    one, two = (j.figures() for j in judged)
    assert one["seen_enough"] < two["seen_enough"] <= 1.0 and two["never_cm2"] < one["never_cm2"]
    assert one["next"] and all(0 < n["gain"] <= 1 and n["common"] >= LEAST_COMMON for n in one["next"])
    assert [n["gain"] for n in one["next"]] == sorted((n["gain"] for n in one["next"]), reverse=True)
    assert one["next"][0]["tip_deg"] != 0.0, "one more upright turn adds less than another side"
    assert one["next"][0]["gain"] > 0.5 * (two["seen_enough"] - one["seen_enough"])


def test_the_share_agrees_with_the_simulators_truth(judged, captures) -> None:
    mesh = knot_model().mesh
    upright, tipped = captures[2:4]
    times = seen_times([upright, tipped], mesh, 6000, 0.6)
    assert judged[1].figures()["seen_enough"] == pytest.approx((times >= 2).mean(), abs=0.08)
    only = seen_times([upright], mesh, 6000, 0.6)
    assert judged[0].figures()["seen_enough"] == pytest.approx((only >= 2).mean(), abs=0.10)


def test_what_a_waiting_pass_shares_is_told_from_how_the_object_lay(captures) -> None:
    state = placed_coarsely(ScanState((CaptureFolder(Path(captures[0])).as_pass(),)), silent)
    own = judge(state, ENOUGH["print"], instrument("desk"), silent, [("tipped", Lay(90.0)), ("again", Lay())])
    (_, tipped), (_, again) = own.waiting
    mesh = knot_model().mesh
    times = [seen_times([scanner], mesh, 6000, 0.6) > 0 for scanner in captures[2:4]]
    assert tipped.common == pytest.approx((times[0] & times[1]).sum() / times[1].sum(), abs=0.1)
    assert again.common > 0.95 and again.gain < 0.05, "another turn as the first one shares all and adds nothing"
    assert not (tipped.shared & tipped.fresh & own.coverage.enough(ENOUGH["print"])).any()
    # Seen from the pass that lay on its side itself, an upright one is the tipped one.
    turned = judge(state, ENOUGH["print"], instrument("desk"), silent, [("upright", Lay())], Lay(-90.0)).waiting[0][1]
    assert turned.common == pytest.approx(tipped.common, abs=0.02)


def test_what_waits_is_not_advised_again_and_few_stops_are_where_they_see_as_much(judged, captures) -> None:
    state = placed_coarsely(ScanState((CaptureFolder(Path(captures[0])).as_pass(),)), silent)
    best = judged[0].nexts[0]
    waits = Lay(best.tip_deg, best.tip_about_deg, best.elevation_deg)
    told = judge(state, ENOUGH["print"], instrument("desk"), silent, [("it waits", waits)])
    assert told.nexts and waits not in [outlook.lay for outlook in told.outlooks]
    assert told.nexts[0].gain < best.gain, "what the pass that waits has seen is not gained again"
    # Eight stops a turn (common practice: the fewest) wherever they bring nearly what twelve do.
    assert {one.stops for one in judged[0].nexts} <= {8, 12} and judged[0].nexts[0].stops == 8


def test_a_turn_begins_where_most_is_new(judged, captures) -> None:
    best, mesh = judged[0].nexts[0], knot_model().mesh
    known = seen_times([captures[2]], mesh, 4000, 0.6) > 0

    def new_by_two(start_deg: float) -> int:
        plan = TurntablePlan(
            path=turn_path(best.stops, start_deg)[:2], tip_deg=best.tip_deg, tip_about_deg=best.tip_about_deg,
            elevation_deg=best.elevation_deg,
        )  # fmt: skip
        seen = seen_times([VirtualScanner(knot_model(), plan, captures[2].traits)], mesh, 4000, 0.6)
        return int(((seen > 0) & ~known).sum())

    soonest = max(new_by_two(45.0 * k) for k in range(8))
    assert new_by_two(0.0) < 0.97 * soonest < new_by_two(best.start_deg)


def test_where_all_that_waits_leaves_nothing_to_gain_another_way_is_advised_all_the_same(captures) -> None:
    """A pass that could not be placed is not mended by one more like it."""
    state = placed_coarsely(ScanState((CaptureFolder(Path(captures[0])).as_pass(),)), silent)
    waits = [Lay(tip, about) for _, tip, about in LAID if tip not in (0.0, -90.0)]
    told = judge(state, ENOUGH["print"], instrument("desk"), silent, [("it waits", lay) for lay in waits])
    assert told.nexts and all(outlook.lay not in waits for outlook in told.outlooks)


def test_nothing_placed_is_said() -> None:
    with pytest.raises(StepNotPossible, match="No pass is placed"):
        judge(ScanState(()), ENOUGH["print"], instrument("desk"), silent)
