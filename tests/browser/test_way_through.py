"""One way through the real interface: sign in, import, run, look, download, undo."""

import io
import os
import socket
import subprocess
import sys
import tempfile
import time
import urllib.request
from pathlib import Path

import numpy as np
import pytest
from django.contrib.auth import get_user_model
from PIL import Image
from selenium import webdriver
from selenium.webdriver.chrome.service import Service
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import WebDriverWait

pytestmark = pytest.mark.django_db(transaction=True)
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
PASSWORD = "tide-and-slate-7"


@pytest.fixture
def address():
    """Web server and worker on the test database."""
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
    yield url
    process.terminate()
    process.wait(timeout=20)


@pytest.fixture
def browser(tmp_path: Path):
    options = webdriver.ChromeOptions()
    options.binary_location = "/usr/bin/chromium"
    for flag in FLAGS:
        options.add_argument(flag)
    options.add_argument(f"--user-data-dir={tempfile.mkdtemp()}")
    options.add_experimental_option("prefs", {"download.default_directory": str(tmp_path)})
    options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
    driver = webdriver.Chrome(options=options, service=Service("/usr/bin/chromedriver"))
    size = {"width": 1280, "height": 800, "deviceScaleFactor": 1, "mobile": False}
    driver.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", size)
    yield driver
    driver.quit()


class Hand:
    """A person's hand: finds things by their test name; waits long, since kernels compile on a fresh machine."""

    def __init__(self, browser: webdriver.Chrome, seconds: float = 300) -> None:
        self.browser = browser
        self.wait = WebDriverWait(browser, seconds, poll_frequency=0.2)

    def all(self, name: str):
        return self.browser.find_elements(By.CSS_SELECTOR, f"[data-test='{name}']")

    def one(self, name: str):
        return self.wait.until(lambda _: next((e for e in self.all(name) if e.is_displayed()), None))

    def click(self, name: str) -> None:
        self.wait.until(lambda _: self.one(name).is_enabled())
        self.one(name).click()

    def press(self, *keys: str) -> None:
        webdriver.ActionChains(self.browser).send_keys(*keys).perform()

    def picture(self) -> np.ndarray:
        """Pixels (h, w, 3) of the middle of the view."""
        box = self.one("view").rect
        image = Image.open(io.BytesIO(self.browser.get_screenshot_as_png())).convert("RGB")
        x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
        return np.asarray(image.crop((int(x - 120), int(y - 120), int(x + 120), int(y + 120)))).astype(int)


def test_the_way_through(address: str, browser: webdriver.Chrome, zipped: Path, tmp_path: Path) -> None:
    get_user_model().objects.create_user("mira", password=PASSWORD)
    hand = Hand(browser)
    browser.get(address)
    hand.one("username").send_keys("mira")
    hand.one("password").send_keys("wrong")
    hand.click("sign-in")
    hand.wait.until(lambda b: "wrong" in b.find_element(By.CSS_SELECTOR, "[role=alert]").text)
    hand.one("password").send_keys(Keys.CONTROL, "a")
    hand.one("password").send_keys(PASSWORD)
    hand.click("sign-in")

    hand.click("new-object")
    hand.one("object-title").send_keys("Lump")
    hand.click("create-object")
    hand.one("capture-sheet")
    empty = hand.picture()
    browser.find_element(By.CSS_SELECTOR, "[data-test='import-file']").send_keys(str(zipped))
    hand.wait.until(lambda _: len(hand.all("step")) == 1 and not hand.all("progress"))
    assert any("Place frames" in f.text for f in hand.all("finding"))

    hand.press("r")
    assert hand.one("progress").text
    hand.wait.until(lambda _: len(hand.all("step")) == 12 and not hand.all("progress"))
    assert "yes" in hand.one("figures").text
    hand.wait.until(lambda _: hand.one("view").get_attribute("data-mesh"))
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

    hand.press("?")
    hand.wait.until(lambda b: "Wireframe" in b.find_element(By.CSS_SELECTOR, "[role=dialog]").text)
    hand.press(Keys.ESCAPE)
    hand.wait.until(lambda b: not b.find_elements(By.CSS_SELECTOR, "[role=dialog]"))
    webdriver.ActionChains(browser).key_down(Keys.CONTROL).send_keys("k").key_up(Keys.CONTROL).perform()
    hand.wait.until(lambda b: b.find_elements(By.CSS_SELECTOR, "#find-action"))
    browser.find_element(By.CSS_SELECTOR, "#find-action").send_keys("stage deliver", Keys.ENTER)
    hand.click("download-glb")
    glb = tmp_path / "lump.glb"
    hand.wait.until(lambda _: glb.exists() and glb.stat().st_size > 10_000)
    assert glb.read_bytes()[:4] == b"glTF"

    hand.wait.until(lambda b: not b.find_elements(By.CSS_SELECTOR, "[role=dialog]"))
    webdriver.ActionChains(browser).key_down(Keys.CONTROL).send_keys("z").key_up(Keys.CONTROL).perform()
    hand.wait.until(lambda _: sum("undone" in s.get_attribute("class") for s in hand.all("step")) == 1)
    severe = [line for line in browser.get_log("browser") if line["level"] == "SEVERE" and "403" not in line["message"]]
    assert not severe, severe
