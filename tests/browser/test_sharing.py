"""Sharing in the real interface: people, a link for somebody without an account, and looking without changing."""

import shutil

import pytest
from django.contrib.auth import get_user_model
from selenium import webdriver
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from objects import actions, core_door
from objects.models import Capture, ScanObject, Step

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture
def lump(captures) -> ScanObject:
    person = get_user_model().objects.create_user
    keeper, _ = person("mira", password="tide-and-slate-7"), person("ruth", password="tide-and-slate-7")
    scan_object = actions.create_object(keeper, "Keel bolt")
    capture = Capture.objects.create(scan_object=scan_object, title="upright", frames=12)
    shutil.copytree(captures[0], core_door.capture_path(str(capture.id)))
    actions.complete_capture(capture, keeper.id, None, 0.0)
    return ScanObject.objects.select_related("owner").get(pk=scan_object.pk)


def press(hand, words: str) -> None:
    hand.wait.until(lambda _: hand.browser.find_elements(By.CSS_SELECTOR, f"[aria-label='{words}']"))
    button = hand.browser.find_element(By.CSS_SELECTOR, f"[aria-label='{words}']")
    webdriver.ActionChains(hand.browser).move_to_element(button).click().perform()


def test_an_object_is_shared_looked_at_and_taken_back(address, hand, lump) -> None:
    hand.sign_in(address, lump.owner)
    hand.browser.get(f"{address}/")
    card = hand.shown("shelf-item")
    webdriver.ActionChains(hand.browser).move_to_element(card).perform()
    press(hand, "Share Keel bolt")
    name = hand.shown("share-name")
    # The dialog takes the focus when it has opened; a hand waits for that too.
    hand.wait.until(
        lambda _: hand.browser.switch_to.active_element.find_elements(By.XPATH, "ancestor::*[@role='dialog']")
    )
    name.send_keys("rut")
    hand.click("share-add")
    fault = hand.wait.until(lambda _: hand.browser.find_elements(By.CSS_SELECTOR, "[role='alert']"))[0]
    assert "nobody here with the name “rut”" in fault.text
    name.send_keys("h" + Keys.ENTER)
    assert "ruth" in hand.shown("share").text
    hand.click("make-link")
    link = hand.shown("address").get_attribute("value")
    assert link.startswith(f"{address}/look#")

    # A browser that nobody signed in to.
    hand.browser.execute_cdp_cmd("Network.clearBrowserCookies", {})
    hand.browser.get("about:blank")
    hand.browser.get(link)
    assert "may look" in hand.shown("look-only").text
    hand.wait.until(lambda _: hand.shown("view").get_attribute("data-points"))
    assert not hand.shown("undo").is_enabled()
    webdriver.ActionChains(hand.browser).key_down(Keys.CONTROL).send_keys("z").key_up(Keys.CONTROL).perform()
    assert Step.objects.count() == 1 and ScanObject.objects.get().head_id is not None

    actions.take_back(lump.pk, lump.owner, lump.links.get().pk)
    hand.browser.get(link)
    hand.wait.until(lambda _: "opens nothing" in hand.browser.find_element(By.TAG_NAME, "main").text)
