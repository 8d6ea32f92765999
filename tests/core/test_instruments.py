"""The stand-in instruments: what they refuse, how they behave, and what their paths see."""

from dataclasses import replace

import numpy as np
import pytest
from scenes import knot_model, on_object, seen_times, small, uv_sphere

from lucid_relic.capture.instruments import INSTRUMENTS, instrument, table_device, traits_of
from lucid_relic.capture.model import ScanModel
from lucid_relic.capture.virtual import TurntablePlan
from lucid_relic.demo.objects import demo_model
from lucid_relic.errors import InputError, ParameterError
from lucid_relic.geometry.rigid import inverse
from lucid_relic.light.exposures import merge_exposures, well_exposed
from lucid_relic.planning.paths import RINGS, preset_path, turn_path
from lucid_relic.types import Shutter


def test_stops_of_a_turn_are_as_many_degrees_apart_as_everybody_takes_them() -> None:
    """8, 12 and 36 stops = 45, 30 and 10 degrees (common practice, no source)."""
    for stops, degrees in ((8, 45.0), (12, 30.0), (36, 10.0)):
        turns = [s.turn_deg for s in turn_path(stops)]
        assert len(turns) == stops and np.diff(turns) == pytest.approx(degrees)


@pytest.mark.parametrize(("stops", "says"), [(0, "none nothing is captured"), (2, "3 to 72"), (90, "3 to 72")])
def test_a_turn_without_stops_is_refused(stops: int, says: str) -> None:
    with pytest.raises(ParameterError, match=says):
        turn_path(stops)


def test_presets_are_tens_of_views_that_the_jewel_table_can_reach() -> None:
    low, high = instrument("jewel").tilt_deg
    for name in RINGS:
        path = preset_path(name)
        assert 15 <= len(path) <= 60 and all(low <= s.tilt_deg <= high for s in path)
    assert 40 <= len(preset_path("small and rich")) <= 50, (
        "40 to 50 views for a small part (common practice, no source)"
    )
    with pytest.raises(ParameterError, match="there are small"):
        preset_path("tiny")


@pytest.mark.parametrize(
    ("shutter", "says"),
    [
        (Shutter(exposure_ms=(0.0,)), "between 0.5 and 64 ms, not 0 ms"),
        (Shutter(exposure_ms=(8.0, 900.0)), "not 900 ms"),
        (Shutter(gain_db=40.0), "gain"),
        (Shutter(gate_mm=(400.0, 300.0)), "inside out"),
        (Shutter(gate_mm=(300.0, 300.0)), "inside out"),
    ],
)
def test_a_shutter_that_cannot_be_is_refused_in_a_sentence(shutter: Shutter, says: str) -> None:
    with pytest.raises(ParameterError, match=says):
        shutter.check(instrument("desk"))


def test_what_does_not_go_together_is_refused() -> None:
    model = knot_model(3.0)
    with pytest.raises(ParameterError, match="no infrared"):
        Shutter(infrared=True).check(instrument("jewel"))
    with pytest.raises(ParameterError, match="tilts from 0° to 0°"):
        table_device(instrument("desk"), model, TurntablePlan(path=preset_path("small and plain")))
    with pytest.raises(ParameterError, match="no table"):
        table_device(instrument("hand"), model, TurntablePlan())
    with pytest.raises(InputError, match="there is no such instrument"):
        instrument("anvil")


def test_the_jewel_head_is_as_fine_as_its_sheet_says() -> None:
    """0.03 mm resolution is what a jewel-size desktop device claims (common practice, no source)."""
    sheet = INSTRUMENTS["jewel"]
    assert sheet.spacing_mm == pytest.approx(0.03) and sheet.noise_mm == 0.01
    assert sheet.field_mm[0] == pytest.approx(38.4)
    traits = traits_of(sheet, Shutter(), 16.0)
    assert traits.exposure == pytest.approx(2.0) and traits.noise_mm == 0.01


def test_two_axes_take_the_frames_where_the_manifest_says_up_to_its_small_errors() -> None:
    plan = TurntablePlan(path=preset_path("small and plain"), pin_mm=25.0, elevation_deg=20.0)
    device = table_device(small("jewel", 8), knot_model(3.0), plan, seed=3)
    told = np.stack([np.array(device.shoot(k).fields["pose"]) for k in (0, 5, 13)])
    true = device.truth_poses()[[0, 5, 13]]
    for k in (1, 2):
        off = inverse(told[0]) @ told[k] @ inverse(inverse(true[0]) @ true[k])
        assert np.degrees(np.linalg.norm(off[:3, :3] - off[:3, :3].T) / np.sqrt(8)) < 0.4
        assert np.linalg.norm(off[:3, 3]) < 0.02 * np.linalg.norm(true[0][:3, 3])
    assert device.manifest()["tracking"] == "shape" and "turntable" not in device.manifest()
    straight = TurntablePlan(stops=6)
    assert "turntable" in table_device(small("desk"), knot_model(3.0), straight).manifest()


def test_a_small_part_rich_in_detail_is_seen_in_one_pass_of_two_axes() -> None:
    """At least 95 % of the stamp, by the simulator's truth."""
    plan = TurntablePlan(path=preset_path("small and rich"), pin_mm=25.0, elevation_deg=20.0)
    model = demo_model("stamp")
    times = seen_times([table_device(small("jewel", 4), model, plan)], model.mesh, 6000, 0.4)
    assert (times > 0).mean() >= 0.95


def test_two_turns_of_the_owl_see_nine_tenths_of_it() -> None:
    """12 stops upright and 12 tipped: at least 90 %, by the simulator's truth."""
    model, sheet = demo_model("owl"), small("desk")
    passes = [table_device(sheet, model, TurntablePlan(stops=12, tip_deg=tip)) for tip in (0.0, 90.0)]
    assert (seen_times(passes, model.mesh, 6000, 0.8) > 0).mean() >= 0.9


def test_infrared_lets_dark_surfaces_answer_and_glossy_ones_glare_less() -> None:
    mesh = uv_sphere(30.0, 60, 120)
    n = len(mesh.vertices)
    for albedo, gloss, exposure in ((0.05, 0.0, 8.0), (0.3, 0.8, 8.0)):
        model = ScanModel(mesh, np.full((n, 3), albedo, np.float32), np.full(n, gloss, np.float32))
        shares = []
        for infrared in (False, True):
            device = table_device(
                small("desk"), model, TurntablePlan(stops=3), Shutter(exposure_ms=(exposure,), infrared=infrared)
            )
            shares.append((device.shoot(0).depth[on_object(device, 0)] > 0).mean())
        assert shares[1] > 1.3 * shares[0]


def test_clear_glass_is_hardly_measured_and_matted_glass_is() -> None:
    shares = []
    for name in ("float", "float-matted"):
        device = table_device(small("desk"), demo_model(name), TurntablePlan(stops=3), Shutter(exposure_ms=(5.0,)))
        shares.append((device.shoot(1).depth[on_object(device, 1)] > 0).mean())
    assert shares[0] < 0.35 and shares[1] > 0.75


def test_the_projectors_shadow_and_the_range_gate_are_not_measured() -> None:
    model = knot_model(2.0)
    sheet = small("desk")
    lit = table_device(replace(sheet, baseline_mm=0.0), model, TurntablePlan(stops=4))
    shaded = table_device(sheet, model, TurntablePlan(stops=4))
    assert (shaded.shoot(1).depth > 0).sum() < (lit.shoot(1).depth > 0).sum()
    full = shaded.shoot(1).depth
    middle = float(np.median(full[full > 0]))
    gated = table_device(sheet, model, TurntablePlan(stops=4), Shutter(gate_mm=(100.0, middle))).shoot(1).depth
    assert 0 < gated.max() <= middle and (gated > 0).sum() < 0.7 * (full > 0).sum()


def test_several_exposures_measure_a_third_more_of_the_bell_than_the_best_single_one() -> None:
    model, sheet = demo_model("bell"), small("desk", 4)
    plan = TurntablePlan(stops=6)
    single: dict[float, list[float]] = {}
    merged = []
    three = table_device(sheet, model, plan, Shutter(exposure_ms=(8.0, 24.0, 64.0)))
    seen: dict[int, np.ndarray] = {}
    for ms in (8.0, 12.0, 16.0, 20.0, 24.0, 32.0):
        device = table_device(sheet, model, plan, Shutter(exposure_ms=(ms,)))
        seen = seen or {stop: on_object(device, stop) for stop in (0, 2)}
        single[ms] = [(device.shoot(stop).depth[seen[stop]] > 0).mean() for stop in seen]
    for stop in seen:
        shot = three.shoot(stop)
        merged.append((shot.depth[seen[stop]] > 0).mean())
        assert shot.fields["exposures_ms"] == [8.0, 24.0, 64.0] and len(shot.fields["valid"]) == 3
    best = max(np.mean(v) for v in single.values())
    assert np.mean(merged) >= 4 / 3 * best


def test_merging_takes_each_place_from_where_it_is_well_exposed() -> None:
    grey = lambda v: np.full((4, 4, 3), v, np.uint8)  # noqa: E731
    near, far, none = (np.full((4, 4), z, np.float32) for z in (300.0, 300.2, 0.0))
    one = merge_exposures([near, far], [grey(127), grey(255)], (1.0, 4.0))
    assert np.allclose(one.depth, 300.0, atol=0.01) and one.valid == (1.0, 1.0)
    assert np.allclose(merge_exposures([none, far], [grey(4), grey(120)], (1.0, 4.0)).depth, 300.2)
    both = merge_exposures([none, near], [grey(60), grey(60)], (1.0, 1.0))
    assert both.valid == (0.0, 1.0) and both.valid_merged == 1.0 and np.abs(both.colour.astype(int) - 60).max() <= 1
    assert well_exposed(grey(127)).min() > 0.9 > well_exposed(grey(252)).max()
    # Two exposures that saw different surfaces are not averaged.
    apart = merge_exposures([near, near + 40], [grey(127), grey(90)], (1.0, 2.0)).depth
    assert np.allclose(apart, 300.0)
