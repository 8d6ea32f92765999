"""Three minutes of steering a pass by hand in a real browser, against a server that runs: how far apart its view is drawn, and its memory."""

import argparse
import time
from pathlib import Path

import numpy as np
from selenium import webdriver
from selenium.webdriver.chrome.service import Service
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

WATCH = """
window.gaps = []; let last = performance.now();
const step = (now) => { window.gaps.push(now - last); last = now; requestAnimationFrame(step) };
requestAnimationFrame(step);
"""
# What lies unused is thrown away only so that the memory can be told: the pause that this costs is no drawing's.
TAKE = """
const done = arguments[0], gaps = window.gaps.slice();
window.gc();
const heap = performance.memory.usedJSHeapSize;
requestAnimationFrame(() => requestAnimationFrame(() => { window.gaps = []; done([gaps, heap]) }));
"""
MAKE = """
const done = arguments[0];
const token = (document.cookie.match(/csrftoken=([^;]+)/) || [])[1];
const headers = { 'content-type': 'application/json', 'x-csrftoken': token };
fetch('/api/objects', { method: 'POST', headers, body: JSON.stringify({ title: 'Owl inkwell', demo_model: 'owl' }) })
  .then((r) => r.json()).then(done);
"""
LATE_MS = 200.0


def stolen() -> np.ndarray:
    """Ticks of all processors that other machines on the same host took, and all ticks (Linux)."""
    ticks = np.array(Path("/proc/stat").read_text().splitlines()[0].split()[1:9], float)
    return np.array([ticks[7], ticks.sum()])


def browser() -> webdriver.Chrome:
    """A browser without a screen that draws in software."""
    options = webdriver.ChromeOptions()
    options.binary_location = "/usr/bin/chromium"
    for flag in ("--headless=new", "--no-sandbox", "--use-angle=swiftshader", "--enable-unsafe-swiftshader",
                 "--enable-precise-memory-info", "--js-flags=--expose-gc"):  # fmt: skip
        options.add_argument(flag)
    out = webdriver.Chrome(options=options, service=Service("/usr/bin/chromedriver"))
    size = {"width": 1280, "height": 800, "deviceScaleFactor": 1, "mobile": False}
    out.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", size)
    return out


def steer(address: str, minutes: float) -> None:
    """Begin a pass by hand and lead the head round the object; prints a line every half minute, and the whole."""
    page = browser()
    shown = lambda name: page.find_elements(By.CSS_SELECTOR, f"[data-test='{name}']")  # noqa: E731

    def waited(name: str):
        for _ in range(600):
            if shown(name):
                return shown(name)[0]
            time.sleep(0.1)
        raise TimeoutError(f"{name} does not appear")

    page.get(address)
    time.sleep(2)
    made = page.execute_async_script(MAKE)
    page.get(f"{address}/objects/{made['id']}")
    waited("instrument").click()
    time.sleep(2)
    next(e for e in page.find_elements(By.CSS_SELECTOR, "[role=option]") if "Hand head" in e.text).click()
    time.sleep(2)
    waited("start-pass").click()
    waited("hand-counts")
    time.sleep(5)
    page.execute_script(WATCH)
    rng = np.random.default_rng(1)
    began, told, gaps, heaps, ticks = time.monotonic(), 0.0, [], [], stolen()

    def tell() -> None:
        nonlocal told, ticks, gaps
        told = time.monotonic()
        some, heap = page.execute_async_script(TAKE)
        gaps += some
        heaps.append(heap / 1e6)
        counts = " ".join(dd.text for dd in shown("hand-counts")[0].find_elements(By.TAG_NAME, "dd"))
        taken, ticks = stolen() - ticks, stolen()
        print(f"{told - began:5.0f} s  {len(some)} drawings, worst {max(some):.0f} ms, heap {heaps[-1]:.0f} MB, {counts}, "
              f"{taken[0] / max(taken[1], 1):.0%} of the processors taken by others", flush=True)  # fmt: skip

    while time.monotonic() - began < 60 * minutes:
        key = rng.choice([Keys.ARROW_RIGHT, Keys.ARROW_RIGHT, Keys.ARROW_RIGHT, Keys.ARROW_UP, Keys.ARROW_DOWN])
        webdriver.ActionChains(page).send_keys(key).perform()
        time.sleep(0.35)
        if time.monotonic() - told > 30:
            tell()
    tell()
    all_gaps = np.array(gaps)
    print(f"{len(gaps)} drawings, median {np.median(all_gaps):.0f} ms, 99 % within {np.percentile(all_gaps, 99):.0f} ms, "
          f"worst {all_gaps.max():.0f} ms, {(all_gaps > LATE_MS).sum()} over {LATE_MS:.0f} ms; "
          f"heap {heaps[0]:.0f} to {heaps[-1]:.0f} MB")  # fmt: skip
    webdriver.ActionChains(page).send_keys(Keys.ESCAPE).perform()
    time.sleep(2)
    page.quit()


if __name__ == "__main__":
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--address", default="http://127.0.0.1:8000")
    parser.add_argument("--minutes", type=float, default=3.0)
    told = parser.parse_args()
    steer(told.address, told.minutes)
