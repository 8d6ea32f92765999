"""One server, one browser and a person's hand for all browser tests."""

import io
import os
import shutil
import socket
import subprocess
import sys
import tempfile
import time
import urllib.request
import uuid
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from selenium import webdriver
from selenium.common.exceptions import StaleElementReferenceException
from selenium.webdriver.chrome.service import Service
from selenium.webdriver.common.by import By
from selenium.webdriver.support.ui import WebDriverWait

SERVER = Path(__file__).resolve().parents[2] / "server"
FLAGS = [
    "--headless=new",
    "--no-sandbox",
    "--use-angle=swiftshader",
    "--enable-unsafe-swiftshader",
    "--disable-dev-shm-usage",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--force-device-scale-factor=1",
]


DRAWN = """
const [patience, done] = arguments
const asked = window.requestAnimationFrame
let count = 0
window.requestAnimationFrame = (draw) => ((count += 1), asked.call(window, draw))
setTimeout(() => ((window.requestAnimationFrame = asked), done(count)), patience)
"""


@pytest.fixture(scope="module")
def server(django_db_setup):
    """Web server, worker and live service on the test database: (address, process).

    They end with the file: another file of this process may start a worker of its own.
    """
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    environment = {**os.environ, "DJANGO_SETTINGS_MODULE": "config.settings"}
    command = [sys.executable, "manage.py", "serve", "--port", str(port)]
    process = subprocess.Popen(command, cwd=SERVER, env=environment, stdout=subprocess.DEVNULL)
    url = f"http://127.0.0.1:{port}"
    for _ in range(150):
        try:
            urllib.request.urlopen(f"{url}/api/session", timeout=1).close()
            break
        except OSError:
            time.sleep(0.2)
    yield url, process
    process.terminate()
    process.wait(timeout=120)


@pytest.fixture
def address(server) -> str:
    return server[0]


@pytest.fixture(scope="module")
def chromium():
    options = webdriver.ChromeOptions()
    options.binary_location = "/usr/bin/chromium"
    for flag in FLAGS:
        options.add_argument(flag)
    options.add_argument(f"--user-data-dir={tempfile.mkdtemp()}")
    options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
    driver = webdriver.Chrome(options=options, service=Service("/usr/bin/chromedriver"))
    size = {"width": 1280, "height": 800, "deviceScaleFactor": 1, "mobile": False}
    driver.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", size)
    # Nobody is here for the first time, but in the test of that.
    driver.execute_cdp_cmd(
        "Page.addScriptToEvaluateOnNewDocument",
        {"source": "if (!location.hash.includes('first')) localStorage.setItem('tour', 'done')"},
    )
    yield driver
    driver.quit()


@pytest.fixture
def browser(chromium: webdriver.Chrome, tmp_path: Path):
    """The browser with nobody signed in, its downloads in this test's folder."""
    chromium.get("about:blank")
    chromium.execute_cdp_cmd("Network.clearBrowserCookies", {})
    chromium.execute_cdp_cmd("Browser.setDownloadBehavior", {"behavior": "allow", "downloadPath": str(tmp_path)})
    chromium.get_log("browser")
    return chromium


@pytest.fixture
def keeper():
    """Somebody who works here."""
    from django.contrib.auth import get_user_model

    return get_user_model().objects.create_user("mira", password="tide-and-slate-7")


@pytest.fixture
def coarse_print():
    """Keeps for a person, under the name that comes back, the print recipe or some of its steps over few voxels and texels."""
    from lucid_relic.operations.recipe import built_in
    from objects import actions

    few = {"fuse": {"voxel_mm": 1.5}, "simplify": {"triangles": 8000}, "lay_colour": {"size": 512}}

    def kept_for(user, *only: str) -> str:
        steps = [
            {"operation": s.operation, "parameters": {**s.parameters, **few.get(s.operation, {})}}
            for s in built_in("print").steps
            if not only or s.operation in only
        ]
        return actions.save_recipe(user, "Coarse print", "", steps).title

    return kept_for


@pytest.fixture
def with_a_pass(keeper, captures):
    """Makes an object with one captured pass, as a turntable leaves it."""
    from objects import actions, core_door
    from objects.models import Capture, ScanObject

    def made(title: str) -> ScanObject:
        scan_object = actions.create_object(keeper, title)
        capture = Capture.objects.create(
            id=uuid.uuid4(), scan_object=scan_object, title="upright", frames=12, planned=12
        )
        shutil.copytree(captures[0], core_door.capture_path(str(capture.id)))
        actions.complete_capture(capture, keeper.id, None, 0.0)
        return ScanObject.objects.get(pk=scan_object.pk)

    return made


@pytest.fixture
def hand(browser: webdriver.Chrome) -> "Hand":
    return Hand(browser)


class Hand:
    """A person's hand: finds things by their test name; waits long, since kernels compile on a fresh machine."""

    def __init__(self, browser: webdriver.Chrome, seconds: float = 600) -> None:
        self.browser = browser
        self.wait = WebDriverWait(browser, seconds, 0.2, [StaleElementReferenceException])

    def all(self, name: str):
        return self.browser.find_elements(By.CSS_SELECTOR, f"[data-test='{name}']")

    def shown(self, name: str):
        return self.wait.until(lambda _: next((e for e in self.all(name) if e.is_displayed()), None))

    def click(self, name: str) -> None:
        self.wait.until(lambda _: self.shown(name).is_enabled())
        self.shown(name).click()

    def choose_recipe(self, title: str) -> None:
        """Choose, in the rail, the recipe that R runs."""
        bar = self.browser.find_element(By.CSS_SELECTOR, ".recipe [aria-label='Recipe']")
        bar.click()
        option = f"//*[@role='option'][normalize-space()='{title}']"
        self.wait.until(lambda b: b.find_elements(By.XPATH, option))[0].click()
        self.wait.until(lambda b: not b.find_elements(By.XPATH, option))

    def press(self, *keys: str) -> None:
        webdriver.ActionChains(self.browser).send_keys(*keys).perform()

    def chord(self, held: str, *keys: str) -> None:
        """Press keys while another is held."""
        webdriver.ActionChains(self.browser).key_down(held).send_keys(*keys).key_up(held).perform()

    def hover(self, element) -> None:
        """Rest the pointer on something."""
        webdriver.ActionChains(self.browser).move_to_element(element).perform()

    def picture(self) -> np.ndarray:
        """Pixels (h, w, 3) of the middle of the view."""
        box = self.shown("view").rect
        image = Image.open(io.BytesIO(self.browser.get_screenshot_as_png())).convert("RGB")
        x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
        return np.asarray(image.crop((int(x - 120), int(y - 120), int(x + 120), int(y + 120)))).astype(int)

    def drag(self, start: tuple[int, int], end: tuple[int, int], steps: int = 6) -> None:
        """Press at one place of the page, move, and let go at another."""
        actions = webdriver.ActionChains(self.browser, duration=20)
        pointer = actions.w3c_actions.pointer_action
        pointer.move_to_location(*start).pause(0.1).pointer_down()
        for k in range(1, steps + 1):
            pointer.move_to_location(*(int(a + (b - a) * k / steps) for a, b in zip(start, end, strict=True)))
            pointer.pause(0.03)
        pointer.pointer_up()
        actions.perform()

    def screen(self) -> np.ndarray:
        """All pixels (h, w, 3) of the page."""
        return np.asarray(Image.open(io.BytesIO(self.browser.get_screenshot_as_png())).convert("RGB")).astype(int)

    def rests(self, seconds: float = 1.5) -> bool:
        """Whether the page draws nothing for a while; a view that draws itself for ever takes a core from the work."""
        return self.browser.execute_async_script(DRAWN, 1000 * seconds) == 0

    def faults(self) -> list[str]:
        """What the browser complained about."""
        return [e["message"] for e in self.browser.get_log("browser") if e["level"] == "SEVERE"]

    def sign_in(self, address: str, user) -> None:
        """Be signed in without typing."""
        from django.conf import settings
        from django.test import Client

        client = Client()
        client.force_login(user, backend="django.contrib.auth.backends.ModelBackend")
        self.browser.get(f"{address}/static/mark.svg")
        cookie = client.cookies[settings.SESSION_COOKIE_NAME].value
        self.browser.add_cookie({"name": settings.SESSION_COOKIE_NAME, "value": cookie, "path": "/"})
