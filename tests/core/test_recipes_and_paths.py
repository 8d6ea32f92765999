"""Recipes as data, progress over their steps, the path of a hand, and where a fresh pass stands."""

import json

import numpy as np
import pytest
from scenes import QUICK, grid_plane, knot_model, uv_sphere

from lucid_relic.capture.hand import HandPlan, VirtualHandScanner
from lucid_relic.capture.virtual import TurntablePlan, VirtualScanner
from lucid_relic.errors import Cancelled, ParameterError, StepNotPossible
from lucid_relic.io.capture_folder import CaptureFolder
from lucid_relic.io.capture_writer import CaptureWriter
from lucid_relic.operations import get_operation
from lucid_relic.operations.recipe import BUILT_IN, Recipe, RecipeStep, built_in, parse_recipe, run_recipe
from lucid_relic.progress import part_of, silent
from lucid_relic.types import ScanState


@pytest.mark.parametrize("name", BUILT_IN)
def test_built_in_recipes_go_from_placing_to_a_mesh_within_their_promise(name: str) -> None:
    recipe = built_in(name)
    order = [s.operation for s in recipe.steps]
    assert order[0] == "place_frames" and order.index("fuse") > order.index("find_fit")
    if name != "draft":
        assert order.index("trim_fuzz") > order.index("settle") > order.index("find_fit")
    steps = {s.operation: get_operation(s.operation).parameters.from_dict(s.parameters) for s in recipe.steps}
    most = {"print": 300_000, "screen": 50_000, "cad": 200_000}
    if name in most:
        assert steps["simplify"].triangles <= most[name]
    if name == "print":
        assert steps["close"].holes == "all" and order[-1] in ("stand_up", "lay_colour") and "stand_up" in order
    if name == "screen":
        assert steps["lay_colour"].size == 4096
    if name == "cad":
        assert "close" not in order and steps["fuse"].character == "crisp"
    assert recipe.title and recipe.help


def test_a_recipe_survives_being_written_and_read() -> None:
    recipe = built_in("print").with_parameter("fuse", "voxel_mm", 0.4)
    steps = [{"operation": s.operation, "parameters": s.parameters} for s in recipe.steps]
    text = json.dumps({"name": "print", "title": recipe.title, "help": recipe.help, "steps": steps})
    assert parse_recipe(text, "mine") == recipe


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("{", "a recipe is JSON"),
        ('{"steps": [{"operation": ["fuse"]}]}', "a recipe is JSON"),
        ('{"steps": [{"operation": "fuse", "parameters": [1]}]}', "a recipe is JSON"),
        ("[" * 5000, "nested too deeply"),
        ('{"steps": [], "title": "\\ud800"}', "Unicode"),
        ("[]", "a recipe is JSON"),
        ('{"steps": 3}', "a recipe is JSON"),
        ('{"steps": [{"parameters": {}}]}', "a recipe is JSON"),
        ('{"steps": [{"operation": "varnish"}]}', "varnish"),
        ('{"steps": [{"operation": "fuse", "parameters": {"voxel": 1}}]}', "voxel"),
        ('{"steps": [{"operation": "fuse", "parameters": {"voxel_mm": "fine"}}]}', "voxel_mm"),
        ('{"steps": [{"operation": "simplify", "parameters": {"triangles": 1}}]}', "triangles"),
    ],
)
def test_a_wrong_recipe_is_refused_before_anything_runs(text: str, says: str) -> None:
    with pytest.raises(ParameterError, match=says):
        parse_recipe(text, "mine.json")


def test_a_parameter_is_set_wherever_its_operation_stands_and_nowhere_else() -> None:
    twice = Recipe("t", "T", "", (RecipeStep("simplify", {}), RecipeStep("remesh", {}), RecipeStep("simplify", {})))
    changed = twice.with_parameter("simplify", "triangles", "900")
    assert [s.parameters for s in changed.steps] == [{"triangles": 900}, {}, {"triangles": 900}]
    assert [s.parameters for s in twice.steps] == [{}, {}, {}]
    with pytest.raises(ParameterError, match="no operation “fuse”"):
        twice.with_parameter("fuse", "voxel_mm", 1)


def test_steps_are_told_with_all_their_parameters_and_progress_never_goes_back() -> None:
    recipe = Recipe("t", "T", "", (RecipeStep("remesh", {"edge_mm": 2.0}), RecipeStep("simplify", {"share": 0.5})))
    told, fractions = [], []
    start = ScanState((), mesh=uv_sphere(15.0, 24, 48))
    end = run_recipe(start, recipe, lambda f, _: fractions.append(f), lambda *step: told.append(step))
    assert [step.operation for step, *_ in told] == ["remesh", "simplify"]
    assert told[1][0].parameters["triangles"] == 300_000 and told[1][0].parameters["share"] == 0.5
    assert told[1][1] is end and told[0][2]["edge_mm"] == 2.0 and all(seconds > 0 for *_, seconds in told)
    assert fractions == sorted(fractions) and fractions[0] == 0 and fractions[-1] == 1.0


def test_stopping_between_steps_keeps_what_was_told() -> None:
    recipe = Recipe("t", "T", "", (RecipeStep("simplify", {"share": 0.5}),) * 3)
    told = []

    def stop_late(fraction: float, message: str) -> None:
        if len(told) == 2:
            raise Cancelled

    with pytest.raises(Cancelled):
        run_recipe(ScanState((), mesh=uv_sphere(15.0)), recipe, stop_late, lambda *step: told.append(step))
    assert len(told) == 2


def test_a_step_that_cannot_be_done_ends_the_recipe_with_its_sentence() -> None:
    recipe = Recipe("t", "T", "", (RecipeStep("simplify", {}), RecipeStep("close", {})))
    told = []
    with pytest.raises(StepNotPossible, match="Fuse first"):
        run_recipe(ScanState((), mesh=grid_plane(5, 5, 1)), recipe, silent, lambda *step: told.append(step))
    assert len(told) == 1


def test_progress_within_progress_stays_in_its_part() -> None:
    heard = []
    part = part_of(part_of(lambda f, m: heard.append((round(f, 6), m)), 0.5, 1.0), 0.2, 0.4)
    for fraction in (0.0, 0.5, 1.0, 7.0, -3.0):
        part(fraction, "x")
    assert heard == [(0.6, "x"), (0.65, "x"), (0.7, "x"), (0.7, "x"), (0.6, "x")]


def test_a_hand_moves_evenly_round_the_object_and_looks_at_it() -> None:
    plan = HandPlan(frames=120, turns=2.0, low_deg=10, high_deg=50, sway_mm=4.0)
    made = VirtualHandScanner(knot_model(2.0), plan, QUICK, seed=1)
    poses = made.truth_poses() @ np.eye(4)
    heads, looks = poses[:, :3, 3], poses[:, :3, 2]
    steps = np.linalg.norm(np.diff(heads, axis=0), axis=1)
    assert steps.max() < 2.0 * np.median(steps) and 5 < np.median(steps) < 40
    middle = np.array([0, 0, 31.0])
    off = np.cross(looks, middle - heads)
    assert np.linalg.norm(off, axis=1).max() < 20.0
    heights = np.degrees(np.arcsin(-looks[:, 2]))
    assert 9 < heights.min() < 14 and 46 < heights.max() < 51
    around = np.unwrap(np.arctan2(heads[:, 1], heads[:, 0]))
    assert abs(np.degrees(around[-1] - around[0])) == pytest.approx(720, abs=15)


def test_frames_of_a_hand_carry_no_pose() -> None:
    made = VirtualHandScanner(knot_model(2.0), HandPlan(frames=5), QUICK)
    assert made.manifest()["tracking"] == "shape" and "turntable" not in made.manifest()
    assert set(made.shoot(3).fields) == {"time_s"} and made.frame_count() == 5


@pytest.mark.parametrize("elevation", [10.0, 35.0, 60.0])
def test_a_fresh_turntable_pass_stands_upright_on_its_axis(tmp_path, elevation: float) -> None:
    plan = TurntablePlan(stops=4, elevation_deg=elevation, start_deg=30.0)
    made = VirtualScanner(knot_model(2.0), plan, QUICK)
    writer = CaptureWriter(tmp_path / "pass", made.manifest())
    for index in range(4):
        shot = made.shoot(index)
        writer.add(shot.depth, shot.colour, **shot.fields)
    writer.finish()
    scan = CaptureFolder(tmp_path / "pass").as_pass()
    assert scan.posed and not scan.placed and scan.keep is None and scan.frame_count == 4
    # Up is up to the axis error of 0.3°; the head stands in front when the table is at 0°, here it has begun at 30°.
    heads = np.stack([scan.T_object_camera(i) for i in range(4)])
    assert np.degrees(np.arcsin(-heads[:, 2, 2])) == pytest.approx(np.full(4, elevation), abs=0.8)
    assert heads[0, 1, 3] / np.linalg.norm(heads[0, :2, 3]) == pytest.approx(-np.cos(np.radians(30)), abs=0.01)
    # Between stops the head goes a quarter round.
    around = np.degrees(np.arctan2(heads[:, 1, 3], heads[:, 0, 3]))
    assert np.abs(np.abs((np.diff(around) + 180) % 360 - 180) - 90).max() < 1.0
