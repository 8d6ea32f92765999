"""The capture desk by hand: check an instrument, look through the head, take a pass, judge it, take another."""

import re
import time

import numpy as np
import pytest
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.remote.webelement import WebElement

from objects import actions

pytestmark = pytest.mark.django_db(transaction=True)


def figure(hand, name: str, number: int) -> str:
    """The n-th figure of a list of figures."""
    return hand.shown(name).find_elements(By.TAG_NAME, "dd")[number].text


def photograph(hand) -> np.ndarray:
    """Colours (n, 3) of the photograph that the head took."""
    box = hand.shown("sight").find_element(By.TAG_NAME, "canvas").rect
    x, y, w, h = (int(box[k]) for k in ("x", "y", "width", "height"))
    return hand.screen()[y : y + h, x : x + w].reshape(-1, 3)


def violet(pixels: np.ndarray) -> int:
    """How many pixels are of the hatch that marks clipped light."""
    return int((np.abs(pixels - [0x6F, 0x4B, 0xB0]).max(axis=1) < 30).sum())


def number(hand, label: str) -> WebElement:
    return hand.browser.find_element(By.CSS_SELECTOR, f"input[aria-label^='{label}']")


def write(hand, label: str, value: str) -> None:
    field = number(hand, label)
    field.send_keys(Keys.CONTROL, "a")
    field.send_keys(value, Keys.TAB)


def test_from_the_instruments_to_a_second_pass(address, hand, keeper) -> None:
    scan_object = actions.create_object(keeper, "Tile", "", "tile")
    hand.sign_in(address, keeper)

    # 1. The instrument is checked with the board; its verdict and figures stay.
    hand.browser.get(f"{address}/instruments")
    hand.shown("stand-desk")
    assert "never done" in hand.shown("check-board").text
    hand.wait.until(lambda _: hand.shown("begin-board").is_enabled())
    hand.press("1")
    hand.wait.until(lambda _: hand.all("verdict-board") and not hand.all("running-check"))
    assert hand.shown("verdict-board").text.startswith("Good.") and "Focal length" in hand.shown("check-board").text

    # 2. What the head sees steers the set-up: too much light is hatched, and taken back.
    hand.browser.get(f"{address}/objects/{scan_object.id}")
    hand.shown("capture-sheet")
    hand.press("v")
    hand.wait.until(lambda _: hand.all("cost"))
    assert "Will not be measured" in hand.shown("sight").text and "Grip" in hand.shown("sight").text
    assert figure(hand, "cost", 0).startswith("12")
    before = violet(photograph(hand))
    write(hand, "Exposure", "64")
    hand.wait.until(lambda _: violet(photograph(hand)) > before + 100)
    clipped = violet(photograph(hand))
    for _ in range(2):  # what was clipped is told only by the next look
        hand.click("just-right")
        time.sleep(3)
    hand.wait.until(lambda _: violet(photograph(hand)) < 0.3 * clipped)

    # 3. A gate before the object leaves nothing, and says so; its far side is pulled back by the keyboard.
    hand.shown("gated").click()
    hand.wait.until(lambda b: b.find_element(By.CSS_SELECTOR, "input[aria-label='Farthest']"))
    write(hand, "Farthest", "120")
    hand.wait.until(lambda _: "inside out" in hand.shown("sight").text)
    write(hand, "Farthest", "400")
    hand.shown("gate-1").send_keys(Keys.ARROW_RIGHT)
    hand.wait.until(lambda _: number(hand, "Farthest").get_attribute("value").startswith("405"))
    hand.shown("gated").click()
    hand.wait.until(lambda _: hand.all("cost"))

    # 4. The set-up is kept under a name.
    hand.click("set-ups")
    hand.shown("set-up-list").find_element(By.TAG_NAME, "input").send_keys("Flat things")
    hand.click("keep-set-up")
    hand.wait.until(lambda _: "Flat things" in hand.shown("set-up-list").text)
    hand.click("set-ups")

    # 5. A pass is paused, stepped back, let go on; what was seen so far is shown; it is the object's when accepted.
    write(hand, "Stops", "40")
    hand.wait.until(lambda _: figure(hand, "cost", 0).startswith("40"))
    hand.press(Keys.TAB, "n")  # on to a field that takes no letters
    hand.wait.until(lambda _: re.search(r"Stop ([3-9]|[1-4]\d)", hand.shown("running-pass").text))
    hand.press(Keys.PAGE_DOWN)
    hand.wait.until(lambda _: "Paused" in hand.shown("waiting").text)
    hand.press("5", Keys.PAGE_UP)
    hand.wait.until(lambda _: "One stop back" in hand.shown("running-pass").text)
    hand.wait.until(lambda _: "enough so far" in hand.shown("coverage").text)
    hand.press(Keys.PAGE_DOWN)
    hand.wait.until(lambda _: not hand.all("waiting") and "Stop " in hand.shown("running-pass").text)
    hand.press(Keys.END)
    hand.shown("held-pass")
    assert re.search(r"\d+ of 40 frames", hand.shown("held-pass").text) and not hand.all("step")
    hand.press("a")
    hand.wait.until(lambda _: len(hand.all("step")) == 3 and not hand.all("progress"))  # with frames and stand cut
    hand.wait.until(lambda _: "Never seen" in hand.shown("coverage").text)

    # 6. The next pass takes the settings over; this one is thrown away.
    time.sleep(0.5)
    assert number(hand, "Stops").get_attribute("value") == "40"
    write(hand, "Stops", "3")
    hand.click("start-pass")
    hand.shown("held-pass")
    hand.wait.until(lambda _: hand.shown("view").get_attribute("data-live") == "3")  # none is asked for any more
    hand.press(Keys.DELETE)
    hand.shown("capture-sheet")
    assert len(hand.all("step")) == 3

    # 7. A second pass is accepted, and placed on the first or refused in words.
    hand.click("start-pass")
    hand.shown("held-pass")
    hand.click("accept-pass")
    hand.wait.until(lambda _: len(hand.all("step")) == 7 and not hand.all("progress"))
    assert not hand.faults()
