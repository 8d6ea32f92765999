"""Strokes drawn on an object in a real browser, against a server that runs: how soon what they mark is drawn, and known exactly.

The object is opened at Clean for a lasso over its points, or at Mend for a brush over its surface; its tour is over. Told are
milliseconds from letting go (of a brush: from each move) to the frame that holds the new marks, and to the service's answer.
"""

import argparse
import math
import time

import numpy as np
from selenium import webdriver
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from steering import browser

STROKES = 12
WATCH = """
localStorage.setItem('tour', 'done');
window.seen = [];
const note = (what) => window.seen.push([what, performance.now()]);
const GL = WebGL2RenderingContext.prototype;
for (const name of ['bufferSubData', 'bufferData']) {
  const asked = GL[name];
  GL[name] = function (...all) {
    if (all.some((a) => a instanceof Uint8Array && a.length > 20000)) note('drawn');
    return asked.apply(this, all);
  };
}
window.addEventListener('pointerup', () => note('up'), true);
const Plain = window.WebSocket;
window.WebSocket = class extends Plain {
  constructor(...all) { super(...all); this.addEventListener('message', () => note('exact')) }
};
const Thread = window.Worker;
window.Worker = class extends Thread {
  constructor(...all) { super(...all); this.addEventListener('message', () => note('answered')) }
  postMessage(...all) { if (all[0]?.kind === 'mark') note('asked'); super.postMessage(...all) }
};
"""


def watch(address: str, object_id: str, brush: bool) -> None:
    """Draw strokes and print the times of each, and their median."""
    page = browser()
    page.get(address)
    page.execute_cdp_cmd("Page.addScriptToEvaluateOnNewDocument", {"source": WATCH})
    page.get(f"{address}/objects/{object_id}")
    time.sleep(3)
    while "Fetching the geometry" in page.find_element(By.TAG_NAME, "body").text:
        time.sleep(0.5)
    keys = webdriver.ActionChains(page)
    keys.key_down(Keys.ALT).send_keys("5" if brush else "2").key_up(Keys.ALT).perform()
    time.sleep(3)
    if brush:
        page.find_element(By.CSS_SELECTOR, "[data-test='operation-smooth'] button").click()
        time.sleep(1)
    webdriver.ActionChains(page).send_keys("6" if brush else "a").perform()
    time.sleep(1)
    box = page.find_element(By.CSS_SELECTOR, "[data-test='view']").rect
    middle = (int(box["x"] + box["width"] / 2), int(box["y"] + box["height"] / 2))
    drawn, exact = [], []
    for n in range(STROKES):
        page.execute_script("window.seen = []")
        _stroke(page, _line(middle, n) if brush else _round(middle, 60 + 13 * n))
        time.sleep(2)
        seen = sorted(page.execute_script("return window.seen"), key=lambda e: e[1])
        up = max(at for what, at in seen if what == "up")
        begun = [at for what, at in seen if what == "asked"] if brush else [up]
        waits = [
            next((at - since for what, at in seen if what == "drawn" and at >= since), math.nan) for since in begun
        ]
        drawn += waits
        exact.append(next((at - up for what, at in seen if what == "exact" and at >= up), math.nan))
        print(f"{n}: drawn after {' '.join(f'{w:.0f}' for w in waits)} ms, exact after {exact[-1]:.0f} ms", flush=True)
    for what, times in (("drawn", drawn), ("exact", exact)):
        known = np.array([t for t in times if not math.isnan(t)])
        if len(known):
            print(
                f"{what}: median {np.median(known):.0f} ms, 90 % within {np.percentile(known, 90):.0f} ms, worst {known.max():.0f} ms"
            )
    page.quit()


def _after(seen: list[tuple[str, float]], since: float) -> float:
    """How long after it was asked for a mark that the thread answered came into a frame, in ms."""
    answered = next((at for what, at in seen if what == "answered" and at >= since), math.inf)
    return next((at - since for what, at in seen if what == "drawn" and at >= answered), math.nan)


def _round(middle: tuple[int, int], radius: int) -> list[tuple[int, int]]:
    turns = np.linspace(0, 2 * np.pi, 25)[:-1]
    return [(int(middle[0] + radius * math.cos(t)), int(middle[1] + radius * math.sin(t))) for t in turns]


def _line(middle: tuple[int, int], number: int) -> list[tuple[int, int]]:
    return [(middle[0] - 40 + 5 * k, middle[1] - 110 + 18 * number) for k in range(20)]


def _stroke(page: webdriver.Chrome, places: list[tuple[int, int]]) -> None:
    actions = webdriver.ActionChains(page, duration=16)
    pointer = actions.w3c_actions.pointer_action
    pointer.move_to_location(*places[0]).pointer_down()
    for place in places[1:]:
        pointer.move_to_location(*place)
    pointer.pointer_up()
    actions.perform()


if __name__ == "__main__":
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("object", help="id of an object whose passes, or with --brush whose surface, are shown")
    parser.add_argument("--address", default="http://127.0.0.1:8000")
    parser.add_argument("--brush", action="store_true")
    told = parser.parse_args()
    watch(told.address, told.object, told.brush)
