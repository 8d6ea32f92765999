"""Fuse and Mend by hand: takes compared, holes taken one by one, a bump healed, a brush that smooths, fewer triangles by a curve."""

import numpy as np
import pytest
import trimesh
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from lucid_relic.types import HeldShape, ScanState, Take, TriangleMesh
from objects import actions

pytestmark = pytest.mark.django_db(transaction=True)


def ball(subdivisions: int = 4, radius: float = 20.0) -> TriangleMesh:
    made = trimesh.creation.icosphere(subdivisions=subdivisions, radius=radius)
    return TriangleMesh(made.vertices.astype(np.float32), made.faces.astype(np.int32))


def holed() -> TriangleMesh:
    """A ball with three holes of 10, 7 and 5 mm, and a bump of 2 mm that looks forward."""
    mesh = ball()
    keep = np.ones(len(mesh.faces), bool)
    for place, size in (((0, 0, 20), 10), ((14, -14, 0), 7), ((-14, -14, 0), 5)):
        keep &= np.linalg.norm(mesh.face_centres() - place, axis=1) > size / 2
    mesh = mesh.select_faces(keep)
    vertices = mesh.vertices.copy()
    vertices[np.linalg.norm(vertices - [0, -20, 0], axis=1) < 3] *= 1.1
    return TriangleMesh(vertices, mesh.faces)


def take(name: str, mesh: TriangleMesh, voxel: float) -> Take:
    told = {
        "voxel_mm": voxel,
        "character": "even",
        "passes": ["upright"],
        "triangles": len(mesh.faces),
        "swallowed": [],
    }
    return Take(name, told, HeldShape(mesh, None))


def standing(keeper, state: ScanState):
    """An object whose last step left that state."""
    scan_object = actions.create_object(keeper, "Net float")
    fused = {"operation": "fuse", "title": "Fuse", "stage": "fuse", "parameters": {}}
    done = actions.FinishedStep(fused, {"take": "fine"}, 1.0, keeper.id, None)
    actions.record_step(scan_object.id, None, state, done)
    return scan_object


def card(hand, name: str) -> None:
    """Open a card, unless it is."""
    head = hand.shown(f"operation-{name}").find_element(By.TAG_NAME, "button")
    if head.get_attribute("aria-expanded") != "true":
        hand.browser.execute_script("arguments[0].click()", head)


def at_rest(hand, steps: int) -> None:
    hand.wait.until(lambda _: len(hand.all("step")) == steps and not hand.all("progress"))


def open_at(address, hand, keeper, scan_object, stage: str) -> None:
    hand.sign_in(address, keeper)
    hand.browser.get(f"{address}/objects/{scan_object.id}")
    hand.wait.until(lambda _: hand.shown("view").get_attribute("data-mesh"))
    hand.chord(Keys.ALT, stage)


def test_two_takes_are_compared_and_one_is_used(address, hand, keeper) -> None:
    coarse, fine = ball(3), ball(5, 20.2)
    state = ScanState(
        (), mesh=fine, takes=(take("coarse", coarse, 1.0), take("fine", fine, 0.4)), notes={"of_take": "fine"}
    )
    open_at(address, hand, keeper, standing(keeper, state), "4")
    hand.chord(Keys.SHIFT, "T")
    hand.wait.until(lambda _: hand.all("takes"))
    assert "in use" in hand.shown("take-fine").text and "1.00" in hand.shown("take-coarse").text
    whole = hand.screen()
    hand.click("compare")
    hand.wait.until(lambda _: hand.all("apart"))
    assert "fine off coarse" in hand.shown("apart").text
    hand.wait.until(lambda _: hand.rests())
    sides = hand.screen()
    assert np.abs(sides.astype(int) - whole).max() > 60
    # The fine ball is 0.2 mm larger, and the coarse one of 1280 triangles lies up to 0.2 mm inside its own sphere.
    mean = float(hand.shown("apart").text.split(": ")[1].split()[0].replace("\u2009mm", "").removesuffix("mm"))
    assert 0.2 < mean < 0.4
    hand.click("how-curtain")
    hand.shown("curtain").send_keys(Keys.ARROW_RIGHT * 3)
    assert hand.shown("curtain").get_attribute("aria-valuenow") == "56"
    hand.click("how-apart")
    hand.wait.until(lambda _: hand.rests())
    middle = hand.picture().reshape(-1, 3)
    assert (middle[:, 0] - middle[:, 2]).mean() > 40  # ochre: most of it lies farther off than pale
    hand.click("compare")
    hand.wait.until(lambda _: not hand.all("comparing"))
    next(b for b in hand.shown("take-coarse").find_elements(By.TAG_NAME, "button") if b.text == "Use").click()
    at_rest(hand, 2)
    card(hand, "takes")
    hand.wait.until(lambda _: "in use" in hand.shown("take-coarse").text)
    assert not hand.faults()


def test_all_holes_but_one_are_closed_then_a_bump_is_healed_and_smoothed(address, hand, keeper) -> None:
    open_at(address, hand, keeper, standing(keeper, ScanState((), mesh=holed(), upright=True)), "5")
    hand.chord(Keys.ALT, "0")
    hand.wait.until(lambda _: "3 of 3" in hand.shown("holes-chosen").text)
    hand.click("hole-2")
    assert "2 of 3" in hand.shown("holes-chosen").text
    hand.click("show-patches")
    hand.wait.until(lambda _: "mm²" in hand.shown("patches-told").text)
    hand.click("close-holes")
    at_rest(hand, 2)
    card(hand, "patch_holes")
    # The one that was left open on purpose is listed, and not taken.
    hand.wait.until(lambda _: "0 of 1" in hand.shown("holes-chosen").text)
    assert hand.shown("hole-0").get_attribute("checked") is None
    hand.chord(Keys.SHIFT, "H")
    hand.wait.until(lambda _: hand.all("surface-heal"))
    hand.press("7")  # seen from the front, where the bump is
    hand.click("tool-mend-ball")
    box = hand.shown("view").rect
    middle = (int(box["x"] + box["width"] / 2), int(box["y"] + box["height"] / 2))
    hand.drag(middle, (middle[0] + 2, middle[1] + 2), steps=1)
    hand.wait.until(lambda _: hand.all("surface-figures"))
    hand.shown("surface-heal").submit()
    at_rest(hand, 3)
    card(hand, "smooth")
    hand.wait.until(lambda _: hand.all("surface-smooth"))
    hand.click("tool-mend-brush")
    hand.drag((middle[0] - 60, middle[1]), (middle[0] + 60, middle[1]))
    hand.wait.until(lambda _: hand.all("surface-figures"))
    hand.shown("surface-smooth").submit()
    at_rest(hand, 4)
    hand.wait.until(lambda _: "at most" in hand.shown("operation-smooth").text)
    assert not hand.faults()


def test_triangles_are_chosen_on_a_curve(address, hand, keeper) -> None:
    open_at(address, hand, keeper, standing(keeper, ScanState((), mesh=ball(5), upright=True)), "5")
    card(hand, "simplify")
    hand.click("make-curve")
    at_rest(hand, 2)
    card(hand, "simplify")
    hand.wait.until(lambda _: hand.all("curve"))
    before = int(hand.shown("triangles").get_property("value"))
    hand.shown("curve").send_keys(Keys.ARROW_LEFT * 12)
    count = int(hand.shown("triangles").get_property("value"))
    assert count == pytest.approx(before / 1.1**12, rel=0.01) and "within" in hand.shown("told").text
    hand.shown("simplify").submit()
    at_rest(hand, 3)
    told = hand.shown("operation-simplify").text.replace("\u2009", "")
    assert any(f"→ {n}" in told for n in (count, count - 1))  # triangles go in pairs
    assert not hand.faults()
