"""The bench under a hand: the stand cut in the view, what is named and reachable, memory, and a live service that dies."""

import json
import os
import shutil
import signal
import subprocess
import sys
import time
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from live_service import live_processes
from selenium import webdriver
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from lucid_relic.io.capture_folder import CaptureFolder
from lucid_relic.operations import get_operation
from lucid_relic.progress import silent
from lucid_relic.types import ScanState
from objects import actions, core_door
from objects.models import Capture, ScanObject

pytestmark = pytest.mark.django_db(transaction=True)
AXE = Path(__file__).parents[2] / "web" / "node_modules" / "axe-core" / "axe.min.js"
VERDIGRIS, MARK = (31, 111, 100), (111, 75, 176)


@pytest.fixture
def lump(captures, keeper) -> ScanObject:
    scan_object = actions.create_object(keeper, "Lump")
    for folder in captures[:2]:
        capture = Capture.objects.create(scan_object=scan_object, title=folder.name, frames=12)
        shutil.copytree(folder, core_door.capture_path(str(capture.id)))
        actions.complete_capture(capture, keeper.id, None, 0.0)
    scan_object.refresh_from_db()
    return scan_object


def of_colour(screen: np.ndarray, colour: tuple[int, int, int], near: int = 24) -> np.ndarray:
    """(n, 2) places x, y in the view's middle part whose pixels have a colour."""
    view = screen[140:560, 260:975]
    rows, columns = np.nonzero(np.abs(view - colour).sum(axis=2) < near)
    return np.column_stack([columns + 260, rows + 140])


def at_stage(hand, number: int) -> None:
    webdriver.ActionChains(hand.browser).key_down(Keys.ALT).send_keys(str(number)).key_up(Keys.ALT).perform()


def points_after(hand) -> str:
    return hand.shown("cut-figures").text


def test_a_stand_is_cut_by_hand_and_the_step_replays_to_the_same_mask(address, hand, lump, keeper, tmp_path) -> None:
    hand.sign_in(address, keeper)
    hand.browser.get(f"{address}/objects/{lump.id}")
    hand.wait.until(lambda _: hand.shown("view").get_attribute("data-points"))
    at_stage(hand, 2)
    hand.shown("cut-figures")
    time.sleep(1.5)
    violet = len(of_colour(hand.screen(), MARK, 60))
    assert violet > 500, "what would go is not shown"

    # The topmost handle pushes the plane along its normal.
    knobs = of_colour(hand.screen(), VERDIGRIS)
    top = knobs[np.argmin(knobs[:, 1])] + [0, 4]
    found = points_after(hand)
    hand.drag((int(top[0]), int(top[1])), (int(top[0]), int(top[1]) - 60))
    hand.wait.until(lambda _: points_after(hand) != found)
    pushed = points_after(hand)
    push = hand.shown("stand-cut").find_elements(By.CSS_SELECTOR, ".three input")[0].get_attribute("value")
    assert float(push.split("\u2009")[0]) > 1
    assert "by hand" in hand.shown("stand-cut").text

    # A line across the view takes its place.
    hand.press("j")
    assert "line" in hand.shown("hint").text
    hand.drag((300, 330), (930, 300))
    hand.wait.until(lambda _: "on your line" in hand.shown("stand-cut").text and points_after(hand) != pushed)
    time.sleep(1)
    knobs = of_colour(hand.screen(), VERDIGRIS)
    assert len(knobs) > 50, "the plane on the line has no handles"
    line = points_after(hand)
    hand.press(Keys.ENTER)
    hand.wait.until(lambda _: len(hand.all("step")) == 3 and not hand.all("progress"))
    assert not hand.faults()

    step = lump.steps.order_by("-id").first()
    assert step.operation == "stand_cut" and step.parameters["line"]["view"]["width"] > 600
    counts = [(p["pass"], p["points_before"], p["points_after"]) for p in step.report["passes"]]
    assert "→" in line and all(before > after > 0 for _, before, after in counts)

    # The command line, given the step's JSON and the captures, comes to the same mask.
    folders = [core_door.capture_path(str(c.id)) for c in lump.captures.order_by("created")]
    recipe = tmp_path / "cut.json"
    recipe.write_text(json.dumps({"steps": [{"operation": step.operation, "parameters": step.parameters}]}))
    command = [sys.executable, "-m", "lucid_relic_cli.main", "process", *map(str, folders), "--recipe", str(recipe)]
    # Passes that are not aligned are no fault of the cut; the report is written all the same.
    subprocess.run([*command, "--out", str(tmp_path / "out")], check=False, capture_output=True)
    report = json.loads((tmp_path / "out" / "report.json").read_text())["steps"][0]["report"]
    assert [(p["pass"], p["points_before"], p["points_after"]) for p in report["passes"]] == counts
    cut = get_operation("stand_cut")
    state = ScanState(tuple(CaptureFolder(f).as_pass() for f in folders))
    again, _ = cut.run(state, cut.parameters.from_dict(step.parameters), silent)
    stored = core_door.load_shown(step.after.manifest)
    for ours, theirs in zip(again.passes, stored.passes, strict=True):
        assert np.array_equal(ours.keep, theirs.keep)


def test_a_hand_marks_takes_away_sets_aside_and_steps_back(address, hand, lump, keeper) -> None:
    hand.sign_in(address, keeper)
    hand.browser.get(f"{address}/objects/{lump.id}")
    hand.shown("capture-sheet")
    hand.wait.until(lambda _: hand.shown("view").get_attribute("data-points"))
    at_stage(hand, 2)
    hand.press("a")
    assert "Draw round" in hand.shown("hint").text, "the tool does not open its card"
    hand.shown("mark-form")
    middle = {k: int(hand.shown("view").rect[k]) for k in ("x", "y", "width", "height")}
    x, y = middle["x"] + middle["width"] // 2, middle["y"] + middle["height"] // 2
    rope(hand, [(x - 70, y - 40), (x + 60, y - 50), (x + 70, y + 40), (x - 60, y + 50)])
    seen = marked(hand)
    assert seen > 500 and len(of_colour(hand.screen(), MARK, 60)) > 300, "what is marked is not shown"

    # Through the object there is more; what is taken out of it is less.
    hand.press(Keys.BACKSPACE)
    hand.press("=")
    rope(hand, [(x - 70, y - 40), (x + 60, y - 50), (x + 70, y + 40), (x - 60, y + 50)])
    through = marked(hand)
    assert through > 1.2 * seen
    hand.press("-")
    hand.press("9")
    for at in ((x - 20, y - 20), (x + 20, y - 20), (x + 20, y + 20)):
        webdriver.ActionChains(hand.browser).move_by_offset(0, 0).perform()
        hand.drag(at, at, steps=1)
    hand.press(Keys.ENTER)
    hand.wait.until(lambda _: 0 < marked(hand) < through)
    less = marked(hand)
    hand.press("/")
    hand.wait.until(lambda _: marked(hand) > 2 * less)
    hand.press("/")
    hand.wait.until(lambda _: marked(hand) == less)

    steps = len(hand.all("step"))
    shown = hand.shown("view").get_attribute("data-points")
    hand.click("take-marked")
    hand.wait.until(lambda _: len(hand.all("step")) == steps + 1 and not hand.all("progress"))
    step = lump.steps.order_by("-id").first()
    assert step.operation == "take_away" and [s["shape"] for s in step.parameters["marks"]["strokes"]] == [
        "lasso",
        "polygon",
    ]
    gone = sum(p["marked"] for p in step.report["passes"])
    # What the view counts stands for the measurements that go.
    assert abs(gone - less) < 0.05 * less + 500
    hand.wait.until(lambda _: snapshot_of(hand.shown("view").get_attribute("data-points")) != snapshot_of(shown))
    hand.chord(Keys.CONTROL, "z")
    hand.wait.until(lambda _: snapshot_of(hand.shown("view").get_attribute("data-points")) == snapshot_of(shown))

    # By keys alone: a box from a cursor in the middle, set aside.
    hand.press("-")
    hand.chord(Keys.ALT, "x")
    hand.press(Keys.ARROW_LEFT, *[Keys.ARROW_UP] * 4, Keys.ENTER)
    hand.chord(Keys.SHIFT, Keys.ARROW_RIGHT, Keys.ARROW_DOWN)
    hand.press(Keys.ENTER)
    hand.wait.until(lambda _: marked(hand) > 20)
    hand.wait.until(lambda _: hand.shown("set-aside").is_enabled())
    hand.chord(Keys.ALT, "z")
    hand.wait.until(lambda _: lump.steps.order_by("-id").first().operation == "set_aside")
    hand.wait.until(lambda _: not hand.all("progress"))
    assert not hand.faults()


def snapshot_of(url: str) -> str:
    """Whose points the view shows."""
    return url.split("/")[3]


def rope(hand, corners: list[tuple[int, int]]) -> None:
    """Draw a lasso through some pixels, and wait until it is counted."""
    actions = webdriver.ActionChains(hand.browser, duration=40)
    pointer = actions.w3c_actions.pointer_action
    pointer.move_to_location(*corners[0]).pause(0.1).pointer_down()
    for at in corners[1:]:
        pointer.move_to_location(*at)
    pointer.pointer_up()
    actions.perform()
    hand.wait.until(lambda _: hand.all("mark-figures") and marked(hand) > 0)


def marked(hand) -> float:
    """How many points the card says are marked; 0 while it counts."""
    said = hand.shown("mark-figures").find_element(By.CSS_SELECTOR, ".marked").text
    if said == "…":
        return 0
    value = said.split(" · ")[0].replace("\u2009", " ")
    return float(value.replace(" k", "").replace(" ", "")) * (1000 if "k" in value else 1)


def test_spots_are_tied_across_two_sides(address, hand, lump, keeper) -> None:
    hand.sign_in(address, keeper)
    hand.browser.get(f"{address}/objects/{lump.id}")
    hand.shown("capture-sheet")
    hand.wait.until(lambda _: hand.shown("view").get_attribute("data-points"))
    at_stage(hand, 3)
    hand.press("a")
    hand.shown("match-form")
    time.sleep(3)
    box = {k: int(hand.shown("view").rect[k]) for k in ("x", "y", "width", "height")}
    # Plain shading is bluish on a warm ground: a spot in the midst of either side.
    pixels = hand.screen()[box["y"] + 150 : box["y"] + box["height"] - 130, box["x"] : box["x"] + box["width"]]
    rows, columns = np.nonzero(pixels[..., 2] > pixels[..., 0] + 4)
    half = columns < box["width"] // 2
    sides = []
    for side in (half, ~half):
        own = np.column_stack([columns[side], rows[side]])
        near = np.argsort(np.linalg.norm(own - np.median(own, axis=0), axis=1))
        sides.append([(int(x) + box["x"], int(y) + box["y"] + 150) for x, y in own[near[[0, 200]]]])
    (a, b), (c, d) = sides
    for k, (x, y) in enumerate((a, c, d, b)):
        hand.drag((x, y), (x, y), steps=1)
        hand.wait.until(lambda _, k=k: len(hand.shown("threads").find_elements(By.TAG_NAME, "li")) == 1 + k // 2)
    assert "2 of 3 threads tied" in hand.shown("match-form").text and not hand.shown("match").is_enabled()
    letters = lambda b: [t.text for t in b.find_elements(By.CSS_SELECTOR, ".screen-lines text")]  # noqa: E731
    hand.wait.until(lambda b: letters(b) == ["A", "A", "B", "B"])
    hand.browser.find_element(By.CSS_SELECTOR, "[aria-label='Untie A']").click()
    assert "1 of 3 threads tied" in hand.shown("match-form").text
    assert not hand.faults()


def violations(browser: webdriver.Chrome) -> list[str]:
    """What axe-core finds on the page as it stands."""
    browser.execute_script(AXE.read_text())
    found = browser.execute_async_script("const done = arguments[0]; axe.run().then((r) => done(r.violations))")
    return [f"{v['id']}: {v['help']}: {n['html'][:120]}" for v in found for n in v["nodes"]]


def test_every_main_view_can_be_read_by_everybody(address, hand, lump, keeper) -> None:
    # Source: axe-core 4.14 (WCAG 2.2 rules), an open-source checker.
    hand.browser.get(f"{address}/sign-in")
    hand.shown("username")
    assert violations(hand.browser) == []
    hand.sign_in(address, keeper)
    hand.browser.get(address)
    hand.shown("new-object")
    assert violations(hand.browser) == []
    hand.browser.get(f"{address}/queue")
    hand.wait.until(lambda b: b.find_elements(By.TAG_NAME, "h1"))
    assert violations(hand.browser) == []
    hand.browser.get(f"{address}/objects/{lump.id}")
    hand.shown("capture-sheet")
    for stage in range(1, 9):
        at_stage(hand, stage)
        time.sleep(0.4)
        if stage == 2:
            hand.shown("cut-figures")
        assert violations(hand.browser) == [], f"stage {stage}"
    assert not hand.faults()


def heap(browser: webdriver.Chrome) -> float:
    """Bytes of the page's heap after a collection."""
    browser.execute_cdp_cmd("HeapProfiler.collectGarbage", {})
    metrics = browser.execute_cdp_cmd("Performance.getMetrics", {})["metrics"]
    return next(m["value"] for m in metrics if m["name"] == "JSHeapUsedSize")


def test_memory_stays_where_it_is_over_thirty_changes_of_the_snapshot(address, hand, keeper, processed) -> None:
    scan_object = actions.create_object(keeper, "Lump")
    mesh = processed[0].mesh
    checked = {"operation": "fuse", "title": "Fuse", "stage": "fuse", "parameters": {}}
    before = None
    for scale in (1.0, 1.5):
        sized = replace(mesh, vertices=mesh.vertices * np.float32(scale))
        done = actions.FinishedStep(checked, {}, 1.0, keeper.id, None)
        before = actions.record_step(scan_object.id, before, ScanState((), mesh=sized), done).after_id
    hand.sign_in(address, keeper)
    hand.browser.execute_cdp_cmd("Performance.enable", {})
    hand.browser.get(f"{address}/objects/{scan_object.id}")
    view = hand.shown("view")
    hand.wait.until(lambda _: view.get_attribute("data-mesh"))
    held, heaps = [], []
    for change in range(30):
        before = view.get_attribute("data-mesh")
        step = "undo" if change % 2 == 0 else "redo"
        hand.wait.until(lambda _, name=step: hand.shown(name).is_enabled())
        keys = webdriver.ActionChains(hand.browser).key_down(Keys.CONTROL)
        keys = keys.send_keys("z") if change % 2 == 0 else keys.key_down(Keys.SHIFT).send_keys("z").key_up(Keys.SHIFT)
        keys.key_up(Keys.CONTROL).perform()
        hand.wait.until(lambda _, was=before: view.get_attribute("data-mesh") not in (was, None))
        time.sleep(0.15)
        held.append(view.get_attribute("data-held"))
        if change in (9, 29):
            heaps.append(heap(hand.browser))
    assert len(set(held[2:])) == 1, f"geometries and textures on the graphics card: {held}"
    assert heaps[1] - heaps[0] < 4e6, f"the heap grew from {heaps[0] / 1e6:.1f} to {heaps[1] / 1e6:.1f} MB"


def test_the_bench_goes_on_when_the_live_service_dies(server, address, hand, lump, keeper) -> None:
    hand.sign_in(address, keeper)
    hand.browser.get(f"{address}/objects/{lump.id}")
    hand.shown("capture-sheet")
    at_stage(hand, 2)
    hand.shown("cut-figures")
    for turn in range(2):
        hand.wait.until(lambda _: live_processes(server[1].pid))
        before = points_after(hand)
        os.kill(live_processes(server[1].pid)[0], signal.SIGKILL)
        above = hand.browser.find_element(By.ID, "cut-above")
        above.send_keys(Keys.CONTROL, "a")
        above.send_keys(f"{6 + 3 * turn}", Keys.TAB)
        hand.wait.until(lambda _, was=before: points_after(hand) != was)
    assert "preview is coming back" not in hand.shown("stand-cut").text
    assert len(hand.all("step")) == 2 and not hand.faults()
