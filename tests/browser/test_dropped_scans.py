"""Scans of other devices through the real interface: dropped, one of them broken, run, looked at, taken away."""

import base64
import time
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import trimesh
from django.contrib.auth import get_user_model
from scenes import knot_model, part_scan
from scipy.spatial.transform import Rotation
from selenium import webdriver
from selenium.webdriver.common.by import By

from lucid_relic.io.meshes import write_mesh
from lucid_relic.types import TriangleMesh

pytestmark = pytest.mark.django_db(transaction=True)
PASSWORD = "tide-and-slate-7"
DROP = """
const [names, data, kinds] = arguments
const carried = new DataTransfer()
names.forEach((name, n) => carried.items.add(new File([Uint8Array.from(atob(data[n]), (c) => c.charCodeAt(0))], name)))
const area = document.querySelector('[data-test=drop-area]')
for (const kind of kinds) area.dispatchEvent(new DragEvent(kind, {dataTransfer: carried, bubbles: true, cancelable: true}))
"""


def scans(folder: Path) -> list[Path]:
    """Two part scans of the lump, each where its device put it, in colour, and a file that broke off."""
    mesh = knot_model(1.6).mesh
    paths = []
    for k, way in enumerate(((0.6, -0.6, 0.5), (-0.2, -0.5, 0.85))):
        cut = part_scan(mesh, tuple(np.array(way) / np.linalg.norm(way)))
        colours = np.clip(cut.vertices * 2 + 128, 0, 255).astype(np.uint8)
        motion = np.eye(4)
        motion[:3, :3] = Rotation.random(random_state=k).as_matrix()
        motion[:3, 3] = [20 * k, -30, 10]
        path = folder / f"{'front' if k == 0 else 'above'}.ply"
        write_mesh(path, replace(TriangleMesh(cut.vertices, cut.faces, colours)).transformed(motion))
        paths.append(path)
    torn = folder / "torn.ply"
    torn.write_bytes(paths[0].read_bytes()[:5000])
    return [paths[0], torn, paths[1]]


def drop(browser: webdriver.Chrome, files: list[Path], *kinds: str) -> None:
    data = [base64.b64encode(f.read_bytes()).decode() for f in files]
    browser.execute_script(DROP, [f.name for f in files], data, list(kinds))


def test_three_files_dropped_one_broken(
    address: str, browser: webdriver.Chrome, hand, tmp_path: Path, coarse_print
) -> None:
    recipe = coarse_print(get_user_model().objects.create_user("mira", password=PASSWORD))
    browser.get(address)
    hand.shown("username").send_keys("mira")
    hand.shown("password").send_keys(PASSWORD)
    hand.click("sign-in")
    hand.shown("new-object")
    (tmp_path / "scans").mkdir()
    files = scans(tmp_path / "scans")
    drop(browser, files, "dragenter")
    hand.wait.until(lambda b: "new object with these scans" in hand.shown("drop-area").text)
    drop(browser, files, "drop")

    left_out = hand.shown("left-out").text
    assert "torn.ply: the file ends before" in left_out
    hand.wait.until(lambda _: len(hand.all("step")) == 2)
    assert [s.text.splitlines()[0] for s in hand.all("step")] == ["Mesh “front”", "Mesh “above”"]
    tracks = browser.find_element(By.CSS_SELECTOR, "[aria-label='Pass tracks']").text
    assert "front" in tracks and "above" in tracks and "mm across (mm, guessed)" in tracks
    hand.wait.until(lambda _: hand.shown("view").get_attribute("data-points"))
    time.sleep(1.0)
    shown = hand.picture()
    assert np.ptp(shown.reshape(-1, 3), axis=0).max() > 60, "no points in the view"

    hand.choose_recipe(recipe)
    hand.press("r")
    hand.wait.until(lambda _: len(hand.all("step")) == 13 and not hand.all("progress"))
    assert not hand.all("fault") and "yes" in hand.shown("figures").text
    hand.press("4")
    browser.find_element(By.CSS_SELECTOR, "body").send_keys("")
    webdriver.ActionChains(browser).key_down("\ue00a").send_keys("8").key_up("\ue00a").perform()
    hand.click("download-ply")
    hand.wait.until(lambda _: list(tmp_path.glob("front*.ply")))
    time.sleep(0.5)
    result = trimesh.load(next(tmp_path.glob("front*.ply")), force="mesh")
    assert result.is_watertight and result.body_count == 1
    row = hand.all("pass-download")[1]
    row.find_element(By.CSS_SELECTOR, "[aria-label='above as XYZ']").click()
    hand.wait.until(lambda _: list(tmp_path.glob("*above.xyz")))
    assert not hand.faults()
