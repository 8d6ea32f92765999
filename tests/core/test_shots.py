"""Single shots placed as they come, faults of a stand-in, and a writer that steps back."""

from pathlib import Path

import numpy as np
import pytest
from scenes import knot_model

from lucid_relic.capture.faults import Troubled
from lucid_relic.capture.instruments import instrument, table_device, traits_of
from lucid_relic.capture.shots import SingleShots
from lucid_relic.capture.virtual import TurntablePlan
from lucid_relic.demo.objects import demo_model
from lucid_relic.desk.shots import ShotPlacer
from lucid_relic.errors import DeviceFault, StepNotPossible
from lucid_relic.geometry.rigid import difference, inverse
from lucid_relic.io.capture_folder import CaptureFolder
from lucid_relic.io.capture_writer import CaptureWriter
from lucid_relic.types import Shutter

DESK = instrument("desk")


def shots_of(name: str, seed: int = 3) -> SingleShots:
    traits = traits_of(DESK, Shutter().check(DESK), DESK.exposure_ms[1])
    return SingleShots(demo_model(name), TurntablePlan(stops=1, elevation_deg=30.0), traits, seed)


def test_shots_of_the_owl_are_placed_where_they_were_taken_from_and_stand_upright() -> None:
    device = shots_of("owl")
    placer, poses, truth = ShotPlacer(device.camera), [], []
    for index in range(4):
        shot = device.shoot(index)
        poses.append(placer.place(shot.depth, shot.colour))
        truth.append(device.truth_pose())
    for pose, true in zip(poses, truth, strict=True):
        off_deg, off_mm = difference(pose, poses[0] @ inverse(truth[0]) @ true)
        assert off_deg < 0.2 and off_mm < 0.5
    up = poses[0][:3, :3].T @ [0, 0, 1.0]  # in the camera: the head looks down 30° on the plate
    assert np.degrees(np.arccos(-up[1])) == pytest.approx(30, abs=4)
    placer.forget_last()
    again = device.shoot(3)
    assert difference(placer.place(again.depth, again.colour), poses[2])[0] > 5  # turned on, less than before


def test_a_shot_that_fits_in_several_places_or_shows_nothing_is_refused_with_its_reason() -> None:
    device = shots_of("bell", seed=3)
    placer = ShotPlacer(device.camera)
    first = device.shoot(0)
    placer.place(first.depth, first.colour)
    with pytest.raises(StepNotPossible, match="not placed on the others.*Turn the object less"):
        for index in (1, 2):
            shot = device.shoot(index)
            placer.place(shot.depth, shot.colour)
    with pytest.raises(StepNotPossible, match="Nothing was measured"):
        placer.place(np.zeros_like(first.depth), first.colour)


def test_a_fault_is_a_sentence_and_nothing_is_taken_while_it_lasts() -> None:
    fault = [""]
    device = Troubled(table_device(DESK, knot_model(2.0), TurntablePlan(stops=4)), "Desk head", lambda: fault[0])
    plain = device.shoot(0)
    for kind, says in (("cable", "desk head does not answer"), ("table", "does not turn")):
        fault[0] = kind
        with pytest.raises(DeviceFault, match=says):
            device.shoot(1)
    fault[0] = "lamp"
    cold = device.shoot(0)
    assert cold.fields["lamp"] < 0.8 and cold.colour.mean() < 0.95 * plain.colour.mean()
    assert device.shoot(1).fields["lamp"] > cold.fields["lamp"] and (cold.depth == plain.depth).all()


def test_a_frame_that_was_stepped_back_from_is_not_in_the_folder(tmp_path: Path) -> None:
    device = table_device(DESK, knot_model(2.0), TurntablePlan(stops=3))
    writer = CaptureWriter(tmp_path / "c", device.manifest())
    for index in (0, 1):
        shot = device.shoot(index)
        writer.add(shot.depth, shot.colour, **shot.fields)
    writer.drop_last()
    assert writer.count == 1 and len(CaptureFolder(tmp_path / "c").manifest.frames) == 1
    shot = device.shoot(2)
    writer.add(shot.depth, shot.colour, **shot.fields)
    writer.finish()
    whole = CaptureFolder(tmp_path / "c")
    assert [f.turntable_deg for f in whole.manifest.frames] == [0, 240]
    np.testing.assert_allclose(whole.depth(1), shot.depth, atol=0.006)
