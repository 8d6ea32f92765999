"""The checks of an instrument as a person goes through them, against what the stand-in hides; reminders."""

import numpy as np
import pytest

from lucid_relic.calibration.board import Board
from lucid_relic.calibration.colour_card import (
    card_picture,
    card_size_mm,
    chart_linear,
    check_card,
    check_sheet,
    read_card,
    under_new_light,
)
from lucid_relic.capture.held import SENSOR, BoardOnPlate, HeldBoard, Print, look_at_card, true_lens, white_sheet
from lucid_relic.capture.instruments import instrument
from lucid_relic.desk.guided_checks import Glance, axis_check, board_check, card_check, sheet_check
from lucid_relic.desk.reminders import growth, reminders
from lucid_relic.errors import StepNotPossible
from lucid_relic.light.difference import delta_e_2000, lab_of_linear

BOARD, SHEET = Board(), instrument("desk")


def printed(board: Board) -> Print:
    return Print.of_board(board.picture(8.0), 8.0, board.size_mm)


def test_the_board_is_asked_for_place_by_place_until_the_lens_is_known() -> None:
    lens, seen = true_lens(SHEET.camera), []
    told = board_check(HeldBoard(lens, printed(BOARD), 1).look, BOARD, SHEET, seen.append)
    assert told.ok and told.figures["fx"] == pytest.approx(lens.fx, rel=2e-3)
    assert told.figures["fy"] == pytest.approx(lens.fy, rel=2e-3) and told.figures["rms_px"] < 0.2
    assert told.figures["off_sheet"] == pytest.approx(lens.fx / SHEET.camera.fx - 1, abs=1e-3)
    done = [glance.done for glance in seen]
    assert done == sorted(done) and done[-1] == seen[-1].of == 9 and seen[0].outline.shape == (4, 2)
    assert len({g.words for g in seen}) >= 9  # the next place is asked for in words


def test_a_lens_that_was_knocked_is_told_from_its_sheet() -> None:
    told = board_check(HeldBoard(true_lens(SHEET.camera, knocked=True), printed(BOARD), 2).look, BOARD, SHEET, silent)
    assert not told.ok and "longer than the sheet" in told.words and told.figures["off_sheet"] > 0.01


def silent(_: Glance) -> None:
    pass


@pytest.mark.parametrize(
    "held, says", [(None, "not in view"), (printed(Board(first_id=120)), "another board")], ids=["none", "another"]
)
def test_no_board_and_another_one_end_the_check_in_a_sentence(held: Print | None, says: str) -> None:
    with pytest.raises(StepNotPossible, match=says):
        board_check(HeldBoard(SHEET.camera, held, 3).look, BOARD, SHEET, silent)
    plate = BoardOnPlate(SHEET.camera, held, 300.0, 42.0, 3)
    with pytest.raises(StepNotPossible, match=says):
        axis_check(plate.look, BOARD, SHEET.camera, silent)


def test_the_axis_of_the_table_is_found_from_a_board_on_its_plate() -> None:
    down = np.radians(42.0)
    plate = BoardOnPlate(true_lens(SHEET.camera), printed(BOARD), 300.0, 42.0, 4)
    told = axis_check(plate.look, BOARD, true_lens(SHEET.camera), silent)
    truth = np.array([0.004, -np.cos(down), -np.sin(down)])
    truth /= np.linalg.norm(truth)
    off = np.degrees(np.arccos(np.clip(np.dot(told.figures["direction"], truth), -1, 1)))
    away = np.linalg.norm(np.cross(np.array(told.figures["point"]) - [0.6, -0.4, 300.0], truth))
    assert told.ok and off < 0.1 and away < 0.1


def test_the_card_takes_a_tinted_lamp_back_and_an_empty_hand_is_told() -> None:
    card = Print(card_picture(6.0), 6.0, card_size_mm())
    told = card_check(lambda: look_at_card(SHEET.camera, card, np.array([0.85, 0.7, 0.5]), 5), silent)
    assert told.ok and told.figures["after"] < 2 < told.figures["before"]
    with pytest.raises(StepNotPossible, match="not wholly in view"):
        card_check(lambda: look_at_card(SHEET.camera, None, np.ones(3), 5), silent)


def test_a_white_sheet_balances_and_tells_the_exposure_and_what_is_no_sheet_is_told() -> None:
    lamp = np.array([0.8, 0.65, 0.45])
    told = sheet_check(lambda: look_at_card(SHEET.camera, white_sheet(0.85), lamp, 5), silent)
    light = np.clip(np.full(3, 0.85) @ SENSOR.T, 0, None) * lamp
    assert np.allclose(np.array(told.figures["balance"]), light[1] / light, rtol=0.01)
    assert np.allclose(np.array(told.figures["matrix"]) @ light, 0.85, rtol=0.03)
    assert told.ok and told.figures["after"] < 0.5 and told.figures["before"] > 10
    with pytest.raises(StepNotPossible, match="No even white sheet"):
        sheet_check(lambda: look_at_card(SHEET.camera, None, lamp, 5), silent)
    half = look_at_card(SHEET.camera, white_sheet(0.85), lamp, 5)
    half[:, : half.shape[1] // 2] //= 3
    with pytest.raises(StepNotPossible, match="No even white sheet"):
        sheet_check(lambda: half, silent)
    with pytest.raises(StepNotPossible, match="clipped"):
        sheet_check(lambda: look_at_card(SHEET.camera, white_sheet(0.85), np.full(3, 2.0), 5), silent)


def test_a_card_is_carried_over_to_a_later_light_by_a_white_sheet() -> None:
    """The card under one lamp, a sheet under that one and another: as if the card had been read under the other."""
    card = Print(card_picture(6.0), 6.0, card_size_mm())
    lamps = [np.array([0.85, 0.7, 0.5]), np.array([0.6, 0.75, 0.8])]
    cards = [check_card(read_card(look_at_card(SHEET.camera, card, lamp, 5))) for lamp in lamps]
    sheet = check_sheet(look_at_card(SHEET.camera, white_sheet(0.85), lamps[1], 5))
    carried = under_new_light(cards[0].matrix, cards[0].exposure * cards[0].balance, sheet.exposure * sheet.balance)
    measured = read_card(look_at_card(SHEET.camera, card, lamps[1], 5))
    off = [
        delta_e_2000(lab_of_linear(measured @ m.T), lab_of_linear(chart_linear())) for m in (carried, cards[0].matrix)
    ]
    assert off[0].mean() < 2 < off[1].mean()


def test_reminders_by_hand() -> None:
    kinds = ("board", "card")
    assert [r.words for r in reminders(kinds, {}, [])] == ["Board check: never done.", "Colour card: never done."]
    old = reminders(kinds, {"board": (31.4, True), "card": (2.0, True)}, [])
    assert [r.words for r in old] == ["Board check: 31 days old; 30 are enough."]
    assert [r.kind for r in reminders(kinds, {"board": (1.0, False), "card": (1.0, True)}, [])] == ["board"]
    steady, worse = [0.02] * 8, [0.02] * 5 + [0.05] * 3
    assert growth(steady) == 1.0 and growth(worse) == pytest.approx(2.5) and growth([0.02, 0.9]) == 1.0
    good = {"board": (1.0, True), "card": (1.0, True)}
    assert reminders(kinds, good, steady) == [] and "2.5 times worse" in reminders(kinds, good, worse)[0].words
