"""The desk of a pass by hand: what it advises, and what it gives up."""

from dataclasses import replace

import numpy as np
from scenes import knot_model

from lucid_relic.capture.instruments import instrument
from lucid_relic.capture.steered import HeadPlace, SteeredHead
from lucid_relic.capture.traits import ScannerTraits
from lucid_relic.desk.hand_desk import IN_VAIN, JUDGE_EVERY, HandDesk, runs_of
from lucid_relic.planning.coverage import ENOUGH
from lucid_relic.planning.frontier import Frontier, Move

HEAD = ScannerTraits(width=160, height=120, focal_px=175.0, standoff_mm=240.0, band_mm=(120.0, 700.0), noise_mm=0.05)
AWAY = 230.0


class AtDesk:
    """A head in front of the lump, and the desk that follows it."""

    def __init__(self) -> None:
        self.head = SteeredHead(knot_model(), lambda _: None, HEAD, seed=4)
        self.taken: list[tuple[np.ndarray, np.ndarray]] = []
        sheet = replace(instrument("hand"), camera=self.head.camera, band_mm=HEAD.band_mm)
        self.desk = HandDesk(sheet, lambda index: self.taken[index], ENOUGH["print"])

    def hold(self, around_deg: float, frames: int) -> None:
        for _ in range(frames):
            index = len(self.taken)
            shot = self.head.shoot(HeadPlace(around_deg=around_deg, away_mm=AWAY), index)
            self.taken.append((shot.depth, shot.colour))
            assert self.desk.take(index, *self.taken[-1]).placed


def test_what_a_place_promises_in_vain_is_given_up_until_frames_are_taken_back(monkeypatch) -> None:
    at = AtDesk()
    at.hold(0.0, 4 * JUDGE_EVERY)
    assert at.desk.nexts, "a lump seen from one side lacks the other"
    pose = at.desk.newest.pose

    def promising(frontier: Frontier, *_) -> tuple[float, list[Move]]:
        away = frontier.way_to(pose[:3, 3])
        sideways = np.cross(away, frontier.up)
        return 0.5, [Move(pose[:3, 3], 0.02, 0.9), Move(frontier.middle + AWAY * sideways, 0.01, 0.9)]

    monkeypatch.setattr(Frontier, "moves", promising)
    at.hold(0.0, JUDGE_EVERY)
    assert [n.gain for n in at.desk.nexts] == [0.02, 0.01] and at.desk.nexts[
        0
    ].words() == "Hold it here a little longer"
    at.hold(0.0, IN_VAIN * JUDGE_EVERY)
    assert [n.gain for n in at.desk.nexts] == [0.01], "held there long enough: it does not come"
    at.desk.step_back(3 * JUDGE_EVERY)
    at.hold(0.0, JUDGE_EVERY + 1)
    assert at.desk.nexts[0].gain == 0.02, "what was seen there is gone again"


def test_where_it_is_too_much_the_model_has_fewer_triangles_and_no_holes() -> None:
    at = AtDesk()
    at.hold(0.0, 12)
    whole, plain = (at.desk.mesh_shown(plainly)[0] for plainly in (False, True))
    assert len(plain.faces) < 0.4 * len(whole.faces) and plain.faces.max() < len(plain.vertices) == len(plain.colours)
    assert plain.area_mm2() > 0.9 * whole.area_mm2()
    # Wide cells reach behind what was measured: they are not left out for that.
    assert whole.area_mm2() > 0.92 * at.desk.live.model.volume.net(1).area_mm2()


def test_frames_in_a_row_are_told_as_runs() -> None:
    assert runs_of([]) == [] and runs_of([4]) == [[4, 4]]
    assert runs_of({7, 3, 1, 2, 9, 8}) == [[1, 3], [7, 9]]
