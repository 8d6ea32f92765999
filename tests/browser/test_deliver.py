"""Deliver by hand: an asset for a game, reduced and as rough as said; a report; a turning page that opens without network."""

import base64
import io
import zipfile
from dataclasses import replace
from pathlib import Path

import numpy as np
import pygltflib
import pytest
import trimesh
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from lucid_relic.types import ScanState, Texture, TriangleMesh
from objects import actions

pytestmark = pytest.mark.django_db(transaction=True)
FETCH = """
const [address, done] = arguments
fetch(address).then(async (answer) => {
  const bytes = new Uint8Array(await answer.arrayBuffer())
  let text = ''
  for (let n = 0; n < bytes.length; n += 32768) text += String.fromCharCode(...bytes.subarray(n, n + 32768))
  done(btoa(text))
})
"""


def painted() -> TriangleMesh:
    """A ball of 40 mm, striped around its upright so that one sees it turn, on a texture of 512 texels."""
    made = trimesh.creation.icosphere(subdivisions=4, radius=20)
    mesh = TriangleMesh(made.vertices.astype(np.float32), made.faces.astype(np.int32))
    share = 0.02 + 0.96 * (mesh.vertices[mesh.faces] / 20 + 1) / 2
    stripes = np.where((np.arange(512) // 48) % 2, 210, 60).astype(np.uint8)
    image = np.repeat(np.repeat(stripes[None, :, None], 512, axis=0), 3, axis=2)
    image[..., 2] //= 2
    return replace(mesh, texture=Texture(image, share[:, :, :2].astype(np.float32), 1.0))


def standing(keeper):
    scan_object = actions.create_object(keeper, "Striped float")
    fused = {"operation": "fuse", "title": "Fuse", "stage": "fuse", "parameters": {}}
    done = actions.FinishedStep(fused, {}, 1.0, keeper.id, None)
    actions.record_step(scan_object.id, None, ScanState((), mesh=painted(), upright=True), done)
    return scan_object


def fetched(hand, number: int) -> bytes:
    """What was made as the number-th, counted from the newest."""
    links = hand.shown("made").find_elements(By.CSS_SELECTOR, "[data-test=take-away]")
    return base64.b64decode(hand.browser.execute_async_script(FETCH, links[number].get_attribute("href")))


def put(hand, card: str, label: str, value: str) -> None:
    """Write a number into a field of a card."""
    field = hand.shown(card).find_element(By.CSS_SELECTOR, f"input[aria-label='{label}']")
    field.send_keys(Keys.CONTROL, "a")
    field.send_keys(value, Keys.TAB)


def test_an_asset_a_report_and_a_turning_page(address, hand, keeper, tmp_path: Path) -> None:
    scan_object = standing(keeper)
    hand.sign_in(address, keeper)
    hand.browser.get(f"{address}/objects/{scan_object.id}")
    hand.wait.until(lambda _: hand.shown("view").get_attribute("data-mesh"))

    # As rough as a glazed float is.
    hand.chord(Keys.ALT, "6")
    head = hand.shown("operation-roughness").find_element(By.TAG_NAME, "button")
    hand.browser.execute_script("arguments[0].click()", head)
    put(hand, "operation-roughness", "Roughness", "0.35")
    hand.shown("operation-roughness").find_element(By.CSS_SELECTOR, "[type=submit]").click()
    hand.wait.until(lambda _: len(hand.all("step")) == 2 and not hand.all("progress"))

    # For a game: reduced on the way, its texture with it.
    hand.chord(Keys.ALT, "8")
    hand.wait.until(lambda _: hand.all("receiver-web"))
    hand.shown("receiver-web").find_element(By.CSS_SELECTOR, "button.title").click()
    put(hand, "wishes-web", "Triangles", "1200")
    put(hand, "wishes-web", "Texture", "256")
    assert "at most 1" in hand.shown("receiver-web").text and "256 texels" in hand.shown("receiver-web").text
    hand.shown("wishes-web").find_element(By.CSS_SELECTOR, "[data-test=deliver]").click()
    hand.wait.until(lambda _: hand.all("made"))
    read = pygltflib.GLTF2.load_from_bytes(fetched(hand, 0))
    assert read.accessors[read.meshes[0].primitives[0].indices].count <= 3 * 1200
    assert read.materials[0].pbrMetallicRoughness.roughnessFactor == pytest.approx(0.35)

    # A report and a turning page together, by the key; what was chosen for the game is still there.
    for name in ("show", "report"):
        hand.shown(f"receiver-{name}").find_element(By.CSS_SELECTOR, "input").click()
    hand.shown("receiver-show").find_element(By.CSS_SELECTOR, "button.title").click()
    for box in hand.shown("wishes-show").find_elements(By.CSS_SELECTOR, "input[type=checkbox]")[1:3]:
        hand.browser.execute_script("arguments[0].click()", box)
    hand.wait.until(lambda _: "moving" not in hand.shown("receiver-show").text.split("\n")[1])
    hand.browser.execute_script("document.activeElement.blur()")
    hand.chord(Keys.SHIFT, "L")
    hand.wait.until(lambda _: len(hand.all("take-away")) == 2 and not hand.all("progress"))
    with zipfile.ZipFile(io.BytesIO(fetched(hand, 0))) as bundle:
        names = [
            "report/striped-float-report.html",
            "report/striped-float-report.pdf",
            "show/striped-float-turning.html",
        ]
        assert sorted(bundle.namelist()) == names
        bundle.extractall(tmp_path)
    hand.browser.get(f"{address}/objects/{scan_object.id}")
    hand.wait.until(lambda _: hand.shown("view").get_attribute("data-mesh"))
    hand.chord(Keys.ALT, "8")
    hand.wait.until(lambda _: hand.all("receiver-web") and "256 texels" in hand.shown("receiver-web").text)
    assert not hand.faults()

    # Both open from a file with the network off; the page shows the object, turns it, and stops at a key.
    offline = {"offline": True, "latency": 0, "downloadThroughput": 0, "uploadThroughput": 0}
    hand.browser.execute_cdp_cmd("Network.enable", {})
    hand.browser.execute_cdp_cmd("Network.emulateNetworkConditions", offline)
    try:
        hand.browser.get(f"file://{tmp_path}/report/striped-float-report.html")
        assert "Striped float" in hand.browser.find_element(By.TAG_NAME, "h1").text
        assert len(hand.browser.find_elements(By.TAG_NAME, "img")) == 4
        hand.browser.get(f"file://{tmp_path}/show/striped-float-turning.html")
        hand.wait.until(lambda b: b.find_elements(By.CSS_SELECTOR, "#view canvas"))
        hand.wait.until(lambda _: middle(hand).std() > 15)
        first = middle(hand)
        hand.wait.until(lambda _: np.abs(middle(hand) - first).mean() > 8)
        hand.browser.find_element(By.ID, "view").send_keys(" ")
        hand.wait.until(lambda _: np.abs(middle(hand) - middle(hand)).max() == 0)
        still = middle(hand)
        hand.browser.find_element(By.ID, "view").send_keys(*[Keys.ARROW_RIGHT] * 6)
        hand.wait.until(lambda _: np.abs(middle(hand) - still).mean() > 8)
        assert not [e for e in hand.browser.get_log("browser") if e["level"] == "SEVERE"]
    finally:
        hand.browser.execute_cdp_cmd(
            "Network.emulateNetworkConditions",
            {**offline, "offline": False, "latency": 0, "downloadThroughput": -1, "uploadThroughput": -1},
        )


def middle(hand) -> np.ndarray:
    """Brightness of the middle of what the page shows."""
    shown = hand.screen().astype(float)
    rows, columns = shown.shape[0] // 2, shown.shape[1] // 2
    return shown[rows - 100 : rows + 100, columns - 100 : columns + 100, :3].mean(axis=2)
