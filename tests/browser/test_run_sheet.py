"""The run sheet by hand: look back, change a step, replay, compare, save a recipe, run it on two objects, accept a finding."""

import pytest
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from objects import actions
from objects.models import OwnRecipe, ScanObject

pytestmark = pytest.mark.django_db(transaction=True)


def steps(hand) -> list[str]:
    return [e.text.split("\n")[0] for e in hand.all("step")]


def run(hand, operation: str, count: int) -> None:
    """Run an operation by the button of its open card, and wait for its step."""
    card = hand.shown(f"operation-{operation}")
    if not card.find_elements(By.TAG_NAME, "form"):
        card.find_element(By.TAG_NAME, "button").click()
    hand.wait.until(
        lambda _: hand.shown(f"operation-{operation}").find_elements(By.CSS_SELECTOR, "form [type=submit]:enabled")
    )
    hand.shown(f"operation-{operation}").find_element(By.CSS_SELECTOR, "form [type=submit]").click()
    hand.wait.until(lambda _: len(hand.all("step")) == count and not hand.all("progress"))


def test_a_step_is_looked_back_at_changed_replayed_compared_and_made_a_recipe(
    address, hand, keeper, with_a_pass
) -> None:
    first = with_a_pass("Keel bolt")
    with_a_pass("Rudder pin")
    hand.sign_in(address, keeper)
    hand.browser.get(f"{address}/objects/{first.pk}")
    hand.wait.until(lambda _: len(hand.all("step")) == 1 and hand.shown("view").get_attribute("data-points"))
    run(hand, "place_frames", 2)
    hand.chord(Keys.ALT, "2")
    run(hand, "stand_cut", 3)
    hand.chord(Keys.ALT, "4")
    card = hand.shown("operation-fuse")
    field = hand.wait.until(lambda _: card.find_elements(By.CSS_SELECTOR, "input"))[0]
    field.send_keys(Keys.CONTROL, "a")
    field.send_keys("3", Keys.TAB)
    run(hand, "fuse", 4)
    hand.wait.until(lambda _: hand.shown("view").get_attribute("data-mesh"))

    # Look back: the object before it was fused, and a band that says so.
    hand.all("step")[1].find_element(By.TAG_NAME, "button").click()
    hand.wait.until(lambda _: "after step 2 of 4" in hand.shown("looking-back").text)
    hand.wait.until(lambda _: not hand.shown("view").get_attribute("data-mesh"))
    assert "mira" in hand.shown("step-details").text
    hand.press(Keys.ESCAPE)
    hand.wait.until(lambda _: hand.shown("view").get_attribute("data-mesh") and not hand.all("looking-back"))

    # Change the voxel of the fusion: the card stands open with what it was done with.
    hand.all("step")[3].find_element(By.TAG_NAME, "button").click()
    hand.click("change-step")
    hand.wait.until(lambda _: "You are changing step 4" in hand.shown("looking-back").text)
    card = hand.wait.until(lambda _: hand.shown("fuse"))
    field = card.find_elements(By.CSS_SELECTOR, "input")[0]
    assert field.get_attribute("value").startswith("3")
    field.send_keys(Keys.CONTROL, "a")
    field.send_keys("2.5", Keys.TAB)
    hand.shown("fuse").submit()
    hand.wait.until(lambda _: "1 change · 1 step to do again" in hand.shown("replay-bar").text)
    hand.shown("replay-name").send_keys("Finer")
    hand.click("replay")
    hand.wait.until(lambda _: "2 branches" in hand.shown("branches").text and not hand.all("progress"))
    hand.wait.until(lambda _: len(steps(hand)) == 4 and not hand.all("progress"))
    assert ScanObject.objects.get(pk=first.pk).head.summary["voxel_mm"] == 2.5 and first.branches.count() == 2

    # Hold it against the branch that it came from.
    hand.click("branches")
    hand.click("compare-branch")
    hand.wait.until(lambda _: "Finer off Branch 1" in hand.shown("apart").text)
    hand.click("compare-branch")
    hand.wait.until(lambda _: not hand.all("comparing"))

    # A finding is accepted with a word, and counts no more.
    hand.wait.until(lambda _: hand.all("finding"))
    before = len(hand.all("finding"))
    hand.click("begin-accept")
    hand.shown("accept-word").send_keys("its keyhole", Keys.ENTER)
    hand.wait.until(lambda _: len(hand.all("finding")) == before - 1)
    hand.click("accepted")
    assert "its keyhole" in hand.shown("accepted-finding").text

    # The steps become a recipe, and that runs on two objects from the shelf.
    hand.chord(Keys.SHIFT, "s")
    hand.shown("recipe-title").send_keys("Coarse look")
    hand.wait.until(lambda _: len(hand.all("recipe-step")) == 3)
    hand.click("keep-recipe")
    hand.wait.until(lambda _: hand.shown("recipe-saved"))
    made = OwnRecipe.objects.get()
    assert [s["operation"] for s in made.steps] == ["place_frames", "stand_cut", "fuse"]
    assert made.steps[2]["parameters"]["voxel_mm"] == 2.5
    hand.browser.get(address)
    hand.click("choose-many")
    hand.wait.until(
        lambda _: len(hand.all("shelf-item")) == 2 and hand.shown("many-recipe").find_elements(By.TAG_NAME, "option")
    )
    hand.shown("many-recipe").send_keys("Coarse look")
    hand.click("choose-all")
    hand.click("run-many")
    hand.wait.until(lambda _: "2 objects are in the queue" in hand.shown("many-said").text)
    other = ScanObject.objects.get(title="Rudder pin")
    hand.wait.until(lambda _: not other.jobs.under_way().exists() and not first.jobs.under_way().exists())
    assert [s.operation for s in other.steps.all()] == ["add_pass", "place_frames", "stand_cut", "fuse"]
    # On the object that it was made of, all of it was known.
    assert first.jobs.filter(kind="recipe", state="done").exists()
    hand.wait.until(lambda _: "finding" in hand.all("shelf-item")[0].text)
    assert not hand.faults()


def test_a_recipe_is_edited_as_a_list_and_a_shelf_is_sifted(address, hand, keeper) -> None:
    for title in ("Keel bolt", "Rudder pin", "Fog horn"):
        actions.create_object(keeper, title)
    hand.sign_in(address, keeper)
    hand.browser.get(f"{address}/recipes")
    hand.wait.until(lambda _: len(hand.all("recipe")) == 4)
    hand.click("make-own")
    hand.wait.until(lambda _: hand.shown("edit-title"))
    hand.shown("edit-title").send_keys(Keys.CONTROL, "a")
    hand.shown("edit-title").send_keys("Short")
    while len(hand.all("recipe-line")) > 3:
        hand.all("remove-step")[-1].click()
    hand.shown("operation-to-add").send_keys("Close holes")
    hand.click("add-step")
    hand.wait.until(lambda _: "Nothing before it fuses" in hand.all("recipe-line")[-1].text)
    hand.all("remove-step")[-1].click()
    hand.click("save-own")
    hand.wait.until(lambda _: len(hand.all("recipe")) == 5)
    assert [len(r.steps) for r in OwnRecipe.objects.filter(owner=keeper)] == [3]

    hand.browser.get(address)
    hand.wait.until(lambda _: len(hand.all("shelf-item")) == 3)
    hand.press("/")
    hand.shown("shelf-words").send_keys("fog")
    hand.wait.until(lambda _: len(hand.all("shelf-item")) == 1)
    hand.shown("shelf-words").send_keys(Keys.CONTROL, "a")
    hand.shown("shelf-words").send_keys(Keys.BACKSPACE)
    hand.wait.until(lambda _: len(hand.all("shelf-item")) == 3)
    hand.hover(hand.all("shelf-item")[0])
    hand.click("shelf-more")
    hand.shown("tags").send_keys("loan, iron", Keys.ENTER)
    hand.wait.until(lambda _: "iron" in hand.all("shelf-item")[0].text)
    hand.hover(hand.all("shelf-item")[1])
    hand.all("shelf-more")[1].click()
    hand.click("archive")
    hand.wait.until(lambda _: len(hand.all("shelf-item")) == 2 and "1 archived" in hand.shown("where-archive").text)
    hand.hover(hand.all("shelf-item")[1])
    hand.all("shelf-more")[1].click()
    hand.click("throw-away")
    hand.wait.until(lambda _: hand.browser.find_elements(By.XPATH, "//*[@role='dialog']//button[text()='Delete']"))
    hand.browser.find_element(By.XPATH, "//*[@role='dialog']//button[text()='Delete']").click()
    hand.click("where-thrown")
    hand.click("take-back")
    hand.wait.until(lambda _: ScanObject.objects.filter(deleted=None).count() == 3)
    assert not hand.faults()


def test_the_tour_points_at_four_places_and_can_be_skipped(address, hand, keeper) -> None:
    scan_object = actions.create_object(keeper, "Keel bolt")
    hand.sign_in(address, keeper)
    hand.browser.execute_script("localStorage.removeItem('tour')")
    hand.browser.get(f"{address}/#first")
    hand.wait.until(lambda _: "1 of 4" in hand.shown("tour").text)
    hand.wait.until(lambda _: hand.browser.find_elements(By.CSS_SELECTOR, "[data-test=shelf-item].tour-ring"))
    hand.shown("shelf-item").find_element(By.TAG_NAME, "a").click()
    for n in (2, 3, 4):
        hand.wait.until(lambda _, n=n: f"{n} of 4" in hand.shown("tour").text)
        hand.wait.until(lambda _: hand.browser.find_elements(By.CSS_SELECTOR, ".tour-ring"))
        hand.click("next-tour")
    hand.wait.until(lambda _: not hand.all("tour"))
    assert hand.browser.current_url.endswith(str(scan_object.pk))
    hand.browser.get(f"{address}/#first-again")
    hand.wait.until(lambda _: hand.all("shelf-item"))
    assert not hand.all("tour") and not hand.faults()
