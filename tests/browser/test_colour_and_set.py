"""Colour and Set by hand: white by a click, adjusting that is shown as it is baked, glare healed; standing up by three
places, scale by two, a length that is kept."""

import re
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import trimesh
from selenium.webdriver import ActionChains
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import Select

from lucid_relic.light.adjust import Adjustment
from lucid_relic.light.srgb import to_linear
from lucid_relic.types import HeldShape, ScanState, Take, Texture, TriangleMesh
from objects import actions, core_door
from objects.models import ScanObject

pytestmark = pytest.mark.django_db(transaction=True)
GLSL = Path(__file__).parents[2] / "web/src/bench/viewer/layers/adjust.glsl.ts"
TINTED = (176, 150, 112)  # what a warm lamp made of grey


def block() -> TriangleMesh:
    """A block of 40 × 30 × 20 mm with a texture: tinted grey, and a white spot of glare in the middle of its front."""
    made = trimesh.creation.box((40, 30, 20)).subdivide().subdivide().subdivide().subdivide()
    vertices, faces = made.vertices.astype(np.float32), made.faces.astype(np.int32)
    corners = vertices[faces]
    normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    front = normal[:, 1] < -0.9 * np.linalg.norm(normal, axis=1)
    uv = np.full((len(faces), 3, 2), 0.02, np.float32)
    uv[front] = corners[front][:, :, [0, 2]] / [44, 44] + 0.5
    image = np.full((256, 256, 3), TINTED, np.uint8)
    v, u = np.mgrid[:256, :256]
    image[np.hypot(u - 128, v - 128) < 22] = 250
    return TriangleMesh(vertices, faces, texture=Texture(image, uv, 1.0))


def standing(keeper, mesh: TriangleMesh) -> ScanObject:
    """An object that ends with that mesh."""
    scan_object = actions.create_object(keeper, "Stamp block")
    laid = {"operation": "lay_colour", "title": "Lay colour", "stage": "colour", "parameters": {}}
    report = {"texture": 256, "seen_share": 1.0, "texels_per_mm": 5.8, "photographs": 24, "touched": 2}
    done = actions.FinishedStep(laid, report, 1.0, keeper.id, None)
    actions.record_step(scan_object.id, None, ScanState((), mesh=mesh, upright=True), done)
    return scan_object


def notes(scan_object: ScanObject) -> dict:
    return ScanObject.objects.select_related("head").get(pk=scan_object.id).head.manifest["notes"]


def open_at(address, hand, keeper, scan_object, stage: str) -> None:
    hand.sign_in(address, keeper)
    hand.browser.get(f"{address}/objects/{scan_object.id}")
    hand.wait.until(lambda _: hand.shown("view").get_attribute("data-mesh"))
    hand.chord(Keys.ALT, stage)


def card(hand, name: str) -> None:
    head = hand.shown(f"operation-{name}").find_element(By.TAG_NAME, "button")
    if head.get_attribute("aria-expanded") != "true":
        hand.browser.execute_script("arguments[0].click()", head)


def at_rest(hand, steps: int) -> None:
    hand.wait.until(lambda _: len(hand.all("step")) == steps and not hand.all("progress"))


def click_at(hand, x: int, y: int) -> None:
    """Click so far from the middle of the view."""
    ActionChains(hand.browser).move_to_element_with_offset(hand.shown("view"), x, y).click().perform()


def steps_left(hand) -> int:
    """Steps of the run sheet that are not taken back."""
    return len([s for s in hand.all("step") if "undone" not in s.get_attribute("class")])


def middle_colour(hand) -> np.ndarray:
    """Mean sRGB of what the middle of the view shows."""
    picture = hand.picture()
    h, w = picture.shape[0] // 2, picture.shape[1] // 2
    return picture[h - 4 : h + 5, w + 60 : w + 70].reshape(-1, 3).mean(axis=0)


def test_white_by_a_click_adjusting_and_healing(address, hand, keeper) -> None:
    scan_object = standing(keeper, block())
    open_at(address, hand, keeper, scan_object, "6")
    hand.press("j")
    hand.wait.until(lambda _: hand.all("adjust"))
    hand.wait.until(lambda _: hand.rests())
    tinted = middle_colour(hand)
    assert tinted[0] - tinted[2] > 30

    # White: grey where it is clicked, and at once.
    hand.chord(Keys.SHIFT, "g")
    click_at(hand, 65, 0)
    hand.wait.until(lambda _: re.fullmatch("#[0-9a-f]{6}", hand.shown("white").text))
    seen = bytes.fromhex(hand.shown("white").text[1:])
    assert np.abs(np.array(list(seen)) - TINTED).max() <= 3  # the view's texture is a JPEG
    hand.wait.until(lambda _: np.ptp(middle_colour(hand)) < 8)
    hand.press(Keys.ESCAPE)

    # A slider shows what it does; a curtain holds what was laid beside it.
    before = middle_colour(hand).mean()
    slider = hand.shown("adjust-light").find_element(By.CSS_SELECTOR, "[role=slider]")
    slider.send_keys(*[Keys.ARROW_RIGHT] * 20)
    hand.wait.until(lambda _: hand.rests())
    hand.wait.until(lambda _: middle_colour(hand).mean() > before + 10)
    hand.click("colour-curtain")
    assert "as laid" in hand.shown("view").find_element(By.XPATH, "./..").text
    hand.shown("adjust").find_element(By.CSS_SELECTOR, "[type=submit]").click()
    at_rest(hand, 2)
    kept = notes(scan_object)["adjust"]
    assert kept["white"] == list(seen) and kept["light"] == pytest.approx(0.2)

    # Glare: marked, healed, gone from the texture that is kept apart.
    card(hand, "heal_colour")
    hand.wait.until(lambda _: hand.all("surface-heal_colour"))
    hand.press("6")
    view = hand.shown("view").rect
    x, y = int(view["x"] + view["width"] / 2) + 82, int(view["y"] + view["height"] / 2) + 52
    for lower in (-34, -10, 14, 38):
        hand.drag((x - 40, y + lower), (x + 40, y + lower))
    hand.wait.until(lambda _: hand.all("surface-figures"))
    hand.press(Keys.ENTER)
    at_rest(hand, 3)
    head = ScanObject.objects.select_related("head").get(pk=scan_object.id).head
    image = core_door.load(head.manifest).mesh.texture.image
    assert (image.min(axis=2) > 240).sum() < 0.05 * np.pi * 22**2
    assert notes(scan_object)["adjust"] == kept

    # What was adjusted is taken back apart from what was healed.
    card(hand, "adjust_colour")
    hand.click("as-laid")
    hand.shown("adjust").find_element(By.CSS_SELECTOR, "[type=submit]").click()
    at_rest(hand, 4)
    assert not Adjustment.from_json(notes(scan_object)["adjust"]).changes
    assert not hand.faults()


def test_what_is_shown_is_what_is_baked(hand) -> None:
    """The very formula of the view, drawn by this browser, against the core's: within one byte of 255."""
    shader = re.search(r"/\* glsl \*/ `(.*)`", GLSL.read_text(), re.S)[1]
    rng = np.random.default_rng(4)
    colours = rng.integers(0, 256, (1024, 3)).astype(np.uint8)
    hand.browser.get("about:blank")
    for trial in range(24):
        sign = rng.uniform(-1, 1, 7) * (0.4 if trial < 12 else 1.0)
        names = ("light", "contrast", "highlights", "shadows", "warmth", "tint", "saturation")
        numbers = {n: round(float(v), 2) for n, v in zip(names, sign, strict=True)}
        white = tuple(float(v) for v in rng.integers(60, 240, 3)) if trial % 2 else None
        adjustment = Adjustment(white=white, gamma=float(np.round(2 ** rng.uniform(-1, 1), 2)), **numbers)
        drawn = np.array(
            hand.browser.execute_script(DRAW, shader, to_linear(colours).ravel().tolist(), uniforms(adjustment))
        )
        baked = adjustment.of_srgb(colours)
        assert np.abs(drawn.reshape(-1, 3).astype(int) - baked).max() <= 1, adjustment


def uniforms(a: Adjustment) -> dict[str, list[float]]:
    white = [0.0] * 4 if a.white is None else [*to_linear(np.array(a.white) / 255).astype(float), 1.0]
    return {
        "whiteSeen": [float(v) for v in white],
        "toneFirst": [a.light, a.contrast, a.highlights, a.shadows],
        "toneSecond": [a.warmth, a.tint, a.saturation, a.gamma],
    }


DRAW = """
const [formula, colours, values] = arguments
const gl = new OffscreenCanvas(1024, 1).getContext('webgl2', {antialias: false})
const compiled = (kind, text) => {
  const s = gl.createShader(kind); gl.shaderSource(s, text); gl.compileShader(s)
  if (!gl.getShaderParameter(s, gl.COMPILE_STATUS)) throw new Error(gl.getShaderInfoLog(s))
  return s
}
const program = gl.createProgram()
gl.attachShader(program, compiled(gl.VERTEX_SHADER, `#version 300 es
  void main() { gl_Position = vec4(gl_VertexID == 1 ? 3.0 : -1.0, gl_VertexID == 2 ? 3.0 : -1.0, 0.0, 1.0); }`))
gl.attachShader(program, compiled(gl.FRAGMENT_SHADER, `#version 300 es
  precision highp float;
  uniform sampler2D laid;
  out vec4 shown;
  ${formula}
  void main() {
    vec3 c = adjustedLight(texelFetch(laid, ivec2(int(gl_FragCoord.x), 0), 0).rgb);
    shown = vec4(mix(12.92 * c, 1.055 * pow(max(c, 1e-12), vec3(1.0 / 2.4)) - 0.055, step(0.0031308, c)), 1.0);
  }`))
gl.linkProgram(program)
gl.useProgram(program)
gl.bindTexture(gl.TEXTURE_2D, gl.createTexture())
gl.texImage2D(gl.TEXTURE_2D, 0, gl.RGB32F, 1024, 1, 0, gl.RGB, gl.FLOAT, new Float32Array(colours))
gl.texParameteri(gl.TEXTURE_2D, gl.TEXTURE_MIN_FILTER, gl.NEAREST)
gl.texParameteri(gl.TEXTURE_2D, gl.TEXTURE_MAG_FILTER, gl.NEAREST)
for (const [name, value] of Object.entries(values)) gl.uniform4fv(gl.getUniformLocation(program, name), value)
gl.drawArrays(gl.TRIANGLES, 0, 3)
const out = new Uint8Array(4096)
gl.readPixels(0, 0, 1024, 1, gl.RGBA, gl.UNSIGNED_BYTE, out)
return [...out].filter((_, n) => n % 4 < 3)
"""


def test_standing_up_by_places_scale_by_two_and_a_length(address, hand, keeper) -> None:
    tilted = trimesh.transformations.rotation_matrix(np.radians(14), (0, 1, 0))
    scan_object = standing(keeper, replace(block().transformed(tilted), made_up=None))
    open_at(address, hand, keeper, scan_object, "7")

    # Three places of the upper face, which lies 14° off level.
    hand.browser.execute_script("document.activeElement.blur()")
    card(hand, "stand_up")
    # The floor that it would stand on is shown, and tilted a degree by hand.
    hand.wait.until(lambda _: "Would stand" in hand.shown("would-stand").text)
    before = hand.shown("would-stand").text
    Select(hand.shown("stand-by")).select_by_value("hand")
    hand.click("tilt-across")
    hand.wait.until(lambda _: hand.all("would-stand") and "a plane" in hand.shown("would-stand").text)
    hand.wait.until(lambda _: hand.shown("would-stand").text != before)
    Select(hand.shown("stand-by")).select_by_value("places")
    hand.wait.until(lambda _: "Place" in hand.shown("hint").text or hand.all("pick-spots"))
    Select(hand.shown("places-of")).select_by_value("top")
    hand.browser.execute_script("document.activeElement.blur()")
    hand.press("8")
    for x, y in ((-90, -30), (70, -40), (0, 30)):
        click_at(hand, x, y)
    hand.wait.until(lambda _: "3 of 3" in hand.shown("pick-spots").text)
    hand.press(Keys.ENTER)
    at_rest(hand, 2)
    steps = ScanObject.objects.get(pk=scan_object.id).steps
    stood = steps.get(operation="stand_up").report
    assert stood["up_from"] == "places" and stood["tilted_deg"] == pytest.approx(14, abs=0.3)

    # Two places on its front, against what a caliper reads there.
    hand.wait.until(lambda _: hand.rests())
    card(hand, "set_scale")
    hand.click("pick-spots")
    click_at(hand, -80, 40)
    click_at(hand, 80, 40)
    here = float(hand.shown("scale-told").text.split("\n")[1].split()[0].replace("\u2009mm", "").removesuffix("mm"))
    caliper = hand.shown("caliper")
    caliper.send_keys(f"{1.3 * here:.3f}")
    hand.wait.until(lambda _: hand.all("not-plausible"))
    caliper.clear()
    caliper.send_keys(f"{1.008 * here:.3f}")
    hand.wait.until(lambda _: not hand.all("not-plausible") and "+0." in hand.shown("scale-told").text)
    hand.press(Keys.ENTER)
    at_rest(hand, 3)
    scaled = ScanObject.objects.get(pk=scan_object.id).steps.get(operation="set_scale").report
    assert scaled["factor"] == pytest.approx(1.008, abs=0.001) and scaled["plausible"]

    # A length between two places is kept, drawn, and taken back exactly with its step.
    card(hand, "measure")
    hand.wait.until(lambda _: hand.all("lengths"))
    hand.click("pick-spots")
    click_at(hand, -80, 40)
    click_at(hand, 80, 40)
    hand.shown("length-name").send_keys("front", Keys.ENTER)
    at_rest(hand, 4)
    hand.wait.until(lambda _: "front" in hand.shown("kept-lengths").text)
    kept = notes(scan_object)["lengths"][0]
    assert kept["name"] == "front" and kept["value"] == pytest.approx(1.008 * here, rel=0.02)
    # All at once: they are drawn anew while they are read.
    drawn = "return [...document.querySelectorAll('text.measure')].map((t) => t.textContent)"
    hand.wait.until(lambda _: any(words.startswith("front ") for words in hand.browser.execute_script(drawn)))
    for left in (3, 2, 1):
        hand.browser.execute_script("document.activeElement.blur()")
        hand.chord(Keys.CONTROL, "z")
        hand.wait.until(lambda _, left=left: hand.rests() and steps_left(hand) == left)
    assert notes(scan_object) == {}
    assert not hand.faults()


def test_a_surface_is_held_against_a_take_and_its_sides_are_seen(address, hand, keeper) -> None:
    made = trimesh.creation.icosphere(subdivisions=4, radius=20)
    mesh = TriangleMesh(made.vertices.astype(np.float32), made.faces.astype(np.int32))
    # Seen from the front the left half lies 0.3 mm outside of the take, the right half as far inside.
    bent = mesh.vertices * (1 - 0.015 * np.sign(mesh.vertices[:, :1]))
    told = {"voxel_mm": 0.5, "character": "even", "passes": [], "triangles": len(mesh.faces), "swallowed": []}
    take = Take("first", told, HeldShape(mesh, None))
    state = ScanState((), mesh=replace(mesh, vertices=bent.astype(np.float32)), upright=True, takes=(take,))
    scan_object = actions.create_object(keeper, "Net float")
    fused = {"operation": "fuse", "title": "Fuse", "stage": "fuse", "parameters": {}}
    done = actions.FinishedStep(fused, {"take": "first"}, 1.0, keeper.id, None)
    actions.record_step(scan_object.id, None, state, done)
    open_at(address, hand, keeper, scan_object, "7")
    hand.chord(Keys.SHIFT, "V")
    hand.wait.until(lambda _: hand.all("deviation"))
    assert Select(hand.shown("against")).first_selected_option.text == "first"
    hand.shown("band").send_keys(Keys.CONTROL, "a")
    hand.shown("band").send_keys("0.1")
    hand.shown("deviation").find_element(By.CSS_SELECTOR, "[type=submit]").click()
    at_rest(hand, 2)
    hand.wait.until(lambda _: hand.all("deviation-told") and hand.rests())
    assert "In the band" in hand.shown("deviation-told").text
    view = hand.shown("view").rect
    row, middle = int(view["y"] + view["height"] / 2), int(view["x"] + view["width"] / 2)

    def red_over_blue(x: int) -> float:
        red, _, blue = hand.screen()[row - 8 : row + 8, middle + x : middle + x + 24].reshape(-1, 3).mean(axis=0)
        return red - blue

    hand.wait.until(lambda _: red_over_blue(-80) > 40)  # ochre outside
    assert red_over_blue(122) < -20  # blue inside
    hand.shown("deviation").find_element(By.CSS_SELECTOR, "p .link").click()
    hand.wait.until(lambda _: hand.rests())
    assert not hand.faults()


def test_how_sure_the_surface_is_is_worked_out_and_shown(address, hand, keeper, with_a_pass) -> None:
    scan_object = with_a_pass("Keel bolt")
    steps = [("place_frames", {}), ("stand_cut", {}), ("fuse", {"voxel_mm": 2.0})]
    checked = [core_door.check_operation(name, given) for name, given in steps]
    before = scan_object.head_id

    def keep(number: int, state: ScanState, report: dict, seconds: float) -> None:
        nonlocal before
        done = actions.FinishedStep(checked[number], report, seconds, keeper.id, None, number)
        before = actions.record_step(scan_object.pk, before, state, done).after_id

    seconds = core_door.expected_seconds(checked, [None] * 3)
    state = core_door.load(scan_object.head.manifest)
    core_door.run_steps(state, checked, core_door.silent, keep, lambda *_: None, 0, lambda *_: None, seconds)
    open_at(address, hand, keeper, scan_object, "7")
    hand.chord(Keys.ALT, "e")
    hand.wait.until(lambda _: hand.all("accuracy") and hand.rests())
    laid = hand.picture()
    hand.shown("accuracy").find_element(By.CSS_SELECTOR, "[type=submit]").click()
    at_rest(hand, 5)
    told = hand.wait.until(lambda _: hand.all("accuracy-told") and hand.shown("accuracy-told").text)
    report = ScanObject.objects.get(pk=scan_object.pk).steps.latest("id").report
    assert f"{report['half_mm']:.3f}" in told and f"{report['repeatability_mm']:.3f}" in told
    # The surface wears the colours of it in place of its own.
    hand.wait.until(lambda _: "Asking every frame" not in hand.shown("accuracy").text and hand.rests())
    assert np.abs(hand.picture() - laid).mean() > 12
    assert not hand.faults()
