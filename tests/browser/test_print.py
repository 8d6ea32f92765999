"""A mesh is made ready for the printer: checked, mended from the list of what does not hold, checked again."""

import numpy as np
import pytest
import trimesh
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from lucid_relic.types import ScanState, TriangleMesh
from objects import actions

pytestmark = pytest.mark.django_db(transaction=True)


def two_blocks() -> TriangleMesh:
    """A block that stands, and a crumb beside it."""
    block, crumb = trimesh.creation.box((30, 20, 20)), trimesh.creation.box((4, 4, 4))
    block.apply_translation([0, 0, 10])
    crumb.apply_translation([40, 0, 2])
    made = trimesh.util.concatenate([block, crumb])
    return TriangleMesh(made.vertices.astype(np.float32), made.faces.astype(np.int32))


def test_print_check_from_fail_to_ready(address, hand, keeper) -> None:
    scan_object = actions.create_object(keeper, "Block")
    fused = {"operation": "fuse", "title": "Fuse", "stage": "fuse", "parameters": {}}
    done = actions.FinishedStep(fused, {}, 1.0, keeper.id, None)
    actions.record_step(scan_object.id, None, ScanState((), mesh=two_blocks()), done)
    hand.sign_in(address, keeper)
    hand.browser.get(f"{address}/objects/{scan_object.id}")
    hand.wait.until(lambda _: hand.shown("view").get_attribute("data-mesh"))
    hand.chord(Keys.ALT, "5")
    hand.shown("operation-print_check").find_element(By.TAG_NAME, "button").click()
    hand.shown("print-check").submit()
    hand.wait.until(lambda _: "Not ready: 1 of 10" in hand.shown("print-verdict").text)
    assert "1 loose piece" in hand.shown("print-check").text
    [mend] = [
        b for b in hand.shown("print-check").find_elements(By.CSS_SELECTOR, ".acts button") if "Largest" in b.text
    ]
    mend.click()
    hand.wait.until(lambda _: len(hand.all("step")) == 3 and not hand.all("progress"))
    hand.chord(Keys.ALT, "h")
    hand.wait.until(lambda _: "ready to print" in hand.shown("operation-print_check").text)
    if not hand.all("print-check"):  # after a step the next card is open
        hand.shown("operation-print_check").find_element(By.TAG_NAME, "button").click()
    hand.wait.until(lambda _: hand.shown("print-verdict").text == "Ready to print.")
    hand.wait.until(lambda _: hand.rests())
    assert not hand.faults()
