"""Passes under scrutiny: sliced, compared, tried without one of them, a ghost layer named and mended, a bad thread left out."""

import shutil
import time
from dataclasses import replace

import numpy as np
import pytest
from selenium.webdriver import ActionChains
from selenium.webdriver.common.actions.wheel_input import ScrollOrigin
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from lucid_relic.types import PassState, ScanState
from objects import actions, core_door
from objects.core_door.captures import open_pass
from objects.models import Capture, ScanObject

pytestmark = pytest.mark.django_db(transaction=True)
PASS_HUES = ((44, 110, 166), (196, 113, 58))


def captured(keeper, folders, titles) -> tuple[ScanObject, list[str]]:
    """An object with captures, and the keys of these."""
    scan_object = actions.create_object(keeper, "Lump")
    keys = []
    for folder, title in zip(folders, titles, strict=True):
        capture = Capture.objects.create(scan_object=scan_object, title=title, frames=12)
        shutil.copytree(folder, core_door.capture_path(str(capture.id)))
        actions.complete_capture(capture, keeper.id, None, 0.0)
        keys.append(str(capture.id))
    scan_object.refresh_from_db()
    return scan_object, keys


def with_passes(keeper, captures, processed, titles, change) -> ScanObject:
    """An object whose passes are those of the lump after settle, changed."""
    settled = next(state for step, state, _ in processed[1] if step.operation == "settle")
    scans = [next(p for p in settled.passes if p.title == folder) for folder in titles.values()]
    folders = {"upright": captures[0], "tipped": captures[1]}
    scan_object, keys = captured(keeper, [folders[f] for f in titles.values()], titles)
    named = zip(scans, keys, titles, strict=True)
    passes = [replace(scan, source=open_pass(key).source, title=title) for scan, key, title in named]
    checked = {"operation": "settle", "title": "Settle", "stage": "align", "parameters": {}}
    done = actions.FinishedStep(checked, {}, 1.0, keeper.id, None)
    actions.record_step(scan_object.id, scan_object.head_id, ScanState(change(*passes)), done)
    return scan_object


@pytest.fixture
def doubled(captures, keeper, processed) -> ScanObject:
    """The lump settled, but for frames 4 to 6 of its second pass, which stand off by 0.3 mm."""

    def shifted(upright: PassState, tipped: PassState) -> tuple[PassState, ...]:
        poses = tipped.frame_poses.copy()
        poses[3:6, :3, 3] += [0.24, -0.12, 0.13]
        return upright, replace(tipped, frame_poses=poses)

    return with_passes(keeper, captures, processed, {"upright": "upright", "tipped": "tipped"}, shifted)


@pytest.fixture
def twin(captures, keeper, processed) -> ScanObject:
    """The same pass twice: laid beside itself, a spot and its like lie on one line of the screen."""

    def waiting(one: PassState, two: PassState) -> tuple[PassState, ...]:
        return one, replace(two, placed=False)

    return with_passes(keeper, captures, processed, {"one": "upright", "two": "upright"}, waiting)


def opened(hand, address, keeper, scan_object: ScanObject, stage: int) -> None:
    hand.sign_in(address, keeper)
    hand.browser.get(f"{address}/objects/{scan_object.id}")
    hand.wait.until(lambda _: hand.shown("view").get_attribute("data-points"))
    hand.chord(Keys.ALT, str(stage))


def titles(hand) -> str:
    return hand.browser.find_element(By.CSS_SELECTOR, "[aria-label='Pass tracks']").text


def test_passes_are_sliced_compared_switched_off_and_rid_of_a_ghost_layer(address, hand, doubled, keeper) -> None:
    opened(hand, address, keeper, doubled, 3)
    whole = covered(hand)

    # 1. A slice is thin lines; the wheel moves it, and it stays where it was meanwhile.
    hand.press("'")
    hand.shown("slice")
    hand.wait.until(lambda _: 0.002 * whole < covered(hand) < 0.3 * whole)
    before = hand.shown("slice-at").text
    wheel(hand, -240)
    hand.wait.until(lambda _: hand.shown("slice-at").text != before)
    [above] = [b for b in hand.shown("slice").find_elements(By.TAG_NAME, "button") if b.text == "Above"]
    above.click()
    hand.wait.until(lambda _: above.get_attribute("aria-pressed") == "true")

    # 2. How far the passes lie apart is told and coloured.
    hand.press(";")
    hand.wait.until(lambda _: "upright" in hand.shown("shift").text and "mm" in hand.shown("shift").text)
    hand.press("3")

    # 3. One click tries it without a pass and says what that costs; undo takes it back.
    hand.click("pass-on-1")
    hand.wait.until(lambda _: "Only it saw" in hand.shown("pass-cards").text and "switched off" in titles(hand))
    hand.chord(Keys.CONTROL, "z")
    hand.wait.until(lambda _: "Only it saw" not in hand.shown("pass-cards").text)

    # 4. The ghost layer is named with its frames, marked, and its frames are left out.
    hand.chord(Keys.ALT, "2")
    hand.shown("operation-ghost_layers").find_element(By.TAG_NAME, "button").click()
    hand.wait.until(lambda _: "frames 4 to 6" in hand.shown("ghost-layers").text)
    assert len(hand.all("ghost")) == 1 and "tipped" in hand.shown("ghost").text
    hand.click("ghost-leave-out")
    hand.wait.until(lambda _: "No ghost layer" in hand.shown("ghost-layers").text)
    assert "21 of 24 frames in" in titles(hand)

    # 5. Frames are left out by range in the tracks, from the keyboard.
    ticks = hand.browser.find_elements(By.CSS_SELECTOR, "[aria-label='Pass tracks'] [role=slider]")
    ticks[0].click()
    hand.chord(Keys.SHIFT, Keys.ARROW_LEFT, Keys.ARROW_LEFT)
    hand.press(Keys.DELETE)
    hand.wait.until(lambda _: "18 of 24 frames in" in titles(hand))
    hand.wait.until(lambda _: hand.rests())
    assert not hand.faults()


def covered(hand) -> int:
    """Pixels of the view's middle that are drawn in the hue of a pass."""
    screen = hand.screen()[120:600, 500:960]
    return int(sum((np.abs(screen - hue).sum(axis=2) < 90).sum() for hue in PASS_HUES))


def wheel(hand, by: int) -> None:

    canvas = hand.shown("view").find_element(By.TAG_NAME, "canvas")
    ActionChains(hand.browser).scroll_from_origin(ScrollOrigin.from_element(canvas), 0, by).perform()


def test_one_bad_thread_of_four_is_named_and_left_out(address, hand, twin, keeper) -> None:
    left, right, across, spread = matching(hand, address, keeper, twin)
    for k, (x, y) in enumerate(((-0.22, -0.1), (0.2, -0.05), (0.0, 0.25), (0.1, -0.25))):
        spot = nearest(left, left.mean(axis=0) + spread * (x, y))
        like = nearest(right, spot + across)
        if k == 3:
            like = nearest(right, right.mean(axis=0) + spread * (-0.3, 0.3))
        tie(hand, spot, like)
    hand.wait.until(lambda _: "left out" in hand.shown("threads").text)
    rows = [row.text for row in hand.shown("threads").find_elements(By.TAG_NAME, "li")]
    assert len(rows) == 4 and ["left out" in row for row in rows] == [False, False, False, True], rows
    hand.click("match")
    hand.wait.until(lambda _: "Placed by hand" in hand.shown("pass-cards").text)
    assert not hand.faults()


def matching(hand, address, keeper, twin) -> tuple[np.ndarray, ...]:
    """Spots are tied at Align: the pixels of both sides, the way from one to the other, and how wide one is."""
    opened(hand, address, keeper, twin, 3)
    hand.press("a")
    hand.shown("match-form")
    time.sleep(3)
    left, right = sides(hand)
    return left, right, right.mean(axis=0) - left.mean(axis=0), np.ptp(left, axis=0)


def tie(hand, *places: np.ndarray) -> None:
    for place in places:
        at = (int(place[0]), int(place[1]))
        hand.drag(at, at, steps=1)
        time.sleep(0.3)


def test_a_counterpart_is_offered_a_knot_moved_and_a_dragged_pass_snaps(address, hand, twin, keeper) -> None:
    left, right, across, spread = matching(hand, address, keeper, twin)
    for way in ((-0.22, -0.1), (0.2, -0.05), (0.0, 0.25)):
        spot = nearest(left, left.mean(axis=0) + spread * way)
        tie(hand, spot, nearest(right, spot + across))
    hand.wait.until(lambda _: "common" in hand.shown("fit-inset").text)
    spot = nearest(left, left.mean(axis=0) + spread * (0.1, -0.25))
    tie(hand, spot)
    hand.wait.until(lambda b: b.find_elements(By.CSS_SELECTOR, ".screen-lines .offer"))
    ring = "const r = document.querySelector('.offer').getBoundingClientRect(); return [r.x + r.width / 2, r.y + r.height / 2]"
    offered = np.array(hand.browser.execute_script(ring))
    assert np.linalg.norm(offered - (spot + across)) < 12, "the ring is not where the same spot is"
    hand.press(Keys.ENTER)
    rows = lambda: [row.text for row in hand.shown("threads").find_elements(By.TAG_NAME, "li")]  # noqa: E731
    hand.wait.until(lambda _: len(rows()) == 4 and not any("same spot" in row or "–" in row for row in rows()))
    hand.drag((int(offered[0]), int(offered[1])), tuple(int(v) for v in nearest(right, offered + spread * (-0.4, 0.5))))
    hand.wait.until(lambda _: "left out" in rows()[3])
    # The pass is dragged aside by keys, then by the pointer, and snaps back.
    hand.chord(Keys.ALT, "v")
    hand.shown("snap-figures")
    for _ in range(6):
        hand.browser.find_element(By.CSS_SELECTOR, "[aria-label^='Shift it right']").click()
    hand.wait.until(lambda _: "6.0 mm" in hand.shown("snap-figures").text.replace("\u2009", " "))
    common = [float(v.text.rstrip("% ")) for v in hand.shown("snap-figures").find_elements(By.TAG_NAME, "dd")[:2]]
    assert common[1] > 95 > common[0]
    hand.click("snap")
    hand.wait.until(lambda _: "Placed by hand" in hand.shown("pass-cards").text)
    assert not hand.faults()


def sides(hand) -> tuple[np.ndarray, np.ndarray]:
    """Pixels (n, 2) of the page where the points of either side are drawn in plain shading."""
    box = {k: int(hand.shown("view").rect[k]) for k in ("x", "y", "width", "height")}
    pixels = hand.screen()[box["y"] + 120 : box["y"] + box["height"] - 100, box["x"] : box["x"] + box["width"]]
    rows, columns = np.nonzero(pixels[..., 2] > pixels[..., 0] + 4)
    places = np.column_stack([columns + box["x"], rows + box["y"] + 120])
    gap = box["x"] + box["width"] / 2
    return places[places[:, 0] < gap], places[places[:, 0] > gap]


def nearest(places: np.ndarray, wanted: np.ndarray) -> np.ndarray:
    return places[np.linalg.norm(places - wanted, axis=1).argmin()]
