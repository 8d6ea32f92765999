"""One way through the real interface: sign in, import, run, look, download, undo."""

import time
from pathlib import Path

import numpy as np
import pytest
from django.contrib.auth import get_user_model
from selenium import webdriver
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

pytestmark = pytest.mark.django_db(transaction=True)
PASSWORD = "tide-and-slate-7"


def test_the_way_through(address: str, browser: webdriver.Chrome, hand, zipped: Path, tmp_path: Path) -> None:
    get_user_model().objects.create_user("mira", password=PASSWORD)
    browser.get(address)
    hand.shown("username").send_keys("mira")
    hand.shown("password").send_keys("wrong")
    hand.click("sign-in")
    hand.wait.until(lambda b: "wrong" in b.find_element(By.CSS_SELECTOR, "[role=alert]").text)
    hand.shown("password").send_keys(Keys.CONTROL, "a")
    hand.shown("password").send_keys(PASSWORD)
    hand.click("sign-in")

    hand.click("new-object")
    hand.shown("object-title").send_keys("Lump")
    hand.click("create-object")
    hand.shown("capture-sheet")
    empty = hand.picture()
    browser.find_element(By.CSS_SELECTOR, "[data-test='import-file']").send_keys(str(zipped))
    hand.wait.until(lambda _: len(hand.all("step")) == 1 and not hand.all("progress"))
    assert any("Place frames" in f.text for f in hand.all("finding"))

    hand.press("r")
    assert hand.shown("progress").text
    hand.wait.until(lambda _: len(hand.all("step")) == 12 and not hand.all("progress"))
    assert "yes" in hand.shown("figures").text
    hand.wait.until(lambda _: hand.shown("view").get_attribute("data-mesh"))
    time.sleep(1.5)
    textured = hand.picture()
    assert np.abs(textured - empty).mean() > 15, "the view is blank"
    colourful = np.ptp(textured, axis=2).mean()
    hand.press("x")
    time.sleep(1.0)
    plain = hand.picture()
    assert np.abs(plain - textured).mean() > 3 and np.ptp(plain, axis=2).mean() < colourful
    hand.press("4")
    time.sleep(1.0)
    assert np.abs(hand.picture() - plain).mean() > 5

    hand.wait.until(lambda _: hand.rests())

    hand.press("?")
    hand.wait.until(lambda b: "Wireframe" in b.find_element(By.CSS_SELECTOR, "[role=dialog]").text)
    hand.press(Keys.ESCAPE)
    hand.wait.until(lambda b: not b.find_elements(By.CSS_SELECTOR, "[role=dialog]"))
    webdriver.ActionChains(browser).key_down(Keys.CONTROL).send_keys("k").key_up(Keys.CONTROL).perform()
    hand.wait.until(lambda b: b.find_elements(By.CSS_SELECTOR, "#find-action"))
    browser.find_element(By.CSS_SELECTOR, "#find-action").send_keys("stage deliver", Keys.ENTER)
    hand.wait.until(lambda b: not b.find_elements(By.CSS_SELECTOR, "[role=dialog]"))
    hand.click("download-glb")
    glb = tmp_path / "lump.glb"
    hand.wait.until(lambda _: glb.exists() and glb.stat().st_size > 10_000)
    assert glb.read_bytes()[:4] == b"glTF"

    webdriver.ActionChains(browser).key_down(Keys.CONTROL).send_keys("z").key_up(Keys.CONTROL).perform()
    hand.wait.until(lambda _: sum("undone" in s.get_attribute("class") for s in hand.all("step")) == 1)
    severe = [message for message in hand.faults() if "403" not in message]
    assert not severe, severe
