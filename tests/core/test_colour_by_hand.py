"""Colour by hand: hard light against the true albedo, one click on grey, healing, and numbers that stay apart."""

from dataclasses import replace

import numpy as np
import pytest
from scenes import grid_plane, hidden_colours, uv_sphere

from lucid_relic.capture.optics import render_view
from lucid_relic.colour.at_place import colour_at
from lucid_relic.colour.heal_colour import heal_colour
from lucid_relic.colour.lay import Laid, own_size
from lucid_relic.colour.lay import lay_colour as lay
from lucid_relic.errors import ParameterError, StepNotPossible
from lucid_relic.geometry.rigid import from_rotvec
from lucid_relic.inspection.findings import findings
from lucid_relic.inspection.summary import ADJUST, STRANGE, summarise_state
from lucid_relic.io.array_store import ArrayStore
from lucid_relic.io.snapshots import load_state, save_state
from lucid_relic.light.adjust import Adjustment, adjusted
from lucid_relic.light.difference import delta_e_2000, lab_of_linear
from lucid_relic.light.srgb import to_linear, to_srgb
from lucid_relic.operations import get_operation
from lucid_relic.progress import silent
from lucid_relic.types import BallStroke, Camera, Marks, Part, ScanState, Texture, TriangleMesh

LAMP = np.array([1.12, 1.0, 0.78])  # of a bulb that is warmer than daylight
GLARE_AT, GLARE_PX = (0.42, 0.55), 9.0  # of the image, where a lamp mirrors itself while the object turns


class HardLight:
    """Photographs of another source with their own exposures (±20 %), a tinted lamp and a spot of glare that stays with it."""

    def __init__(self, source, seed: int) -> None:
        self.key = source.key
        self.source = source
        self.exposure = 1 + np.random.default_rng(seed).uniform(-0.2, 0.2, 64)

    def depth(self, index: int, part: Part | None = None) -> np.ndarray:
        return self.source.depth(index, part)

    def colour(self, index: int, part: Part | None = None) -> np.ndarray:
        image = self.source.colour(index)
        height, width = image.shape[:2]
        v, u = np.mgrid[:height, :width]
        away = np.hypot(u - GLARE_AT[0] * width, v - GLARE_AT[1] * height)
        lit = to_linear(image) * LAMP * 0.8 * self.exposure[index] + np.exp(-((away / GLARE_PX) ** 2))[..., None]
        spoiled = to_srgb(np.where(image.sum(axis=2, keepdims=True) > 0, lit, 0))
        return spoiled if part is None else spoiled[part]


class OtherCamera(HardLight):
    """Photographs by a camera apart from the depth camera: finer, beside it, turned a little."""

    camera = Camera(360, 270, 520.0, 520.0, 181.0, 133.0, (-0.05, 0.01, 0, 0, 0))
    T_depth_colour = from_rotvec(np.array([0.01, -0.06, 0.02]), np.array([18.0, -6.0, 1.0]))

    def __init__(self, source, scanner) -> None:
        self.key, self.source, self.scanner = source.key, source, scanner

    def colour(self, index: int, part: Part | None = None) -> np.ndarray:
        pose = self.scanner._turned(self.scanner._stops[index]) @ self.T_depth_colour
        rng = np.random.default_rng([9, index])
        image = render_view(self.scanner.scene, self.camera, self.scanner.traits, pose, rng)[1]
        return image if part is None else image[part]


@pytest.fixture(scope="module")
def truth(captures, processed):
    """(albedo (n, 3) of the mesh's vertices, (n,) bool of those that frames measured)."""
    return hidden_colours(processed[0].mesh, captures[2], processed[0].passes[0])


def off(mesh: TriangleMesh, truth) -> np.ndarray:
    """(n,) CIEDE2000 of what is measured, exposures of the whole made equal: the simulator's is not known to anybody."""
    hidden, seen = truth
    shown = to_linear(mesh.colours).astype(float)
    shown = np.clip(shown / np.median(shown[seen] / hidden[seen]), 0, 1)
    return delta_e_2000(lab_of_linear(shown[seen]), lab_of_linear(hidden[seen]))


def laid_under(state: ScanState, spoil) -> Laid:
    passes = tuple(replace(p, **spoil(p, n)) for n, p in enumerate(state.passes))
    return lay(replace(state, passes=passes), state.mesh, 512, silent)


def test_hard_light_is_right_after_one_click_on_grey(processed, truth) -> None:
    state = processed[0]
    laid = laid_under(state, lambda p, n: {"source": HardLight(p.source, n)})
    assert {p.kind for p in laid.strange} >= {"glare"} and laid.touched > 6
    hidden, seen = truth
    spread = np.ptp(hidden, axis=1) / hidden.mean(axis=1)
    grey = laid.mesh.vertices[np.flatnonzero(seen)[np.argmin(spread[seen])]]
    white = tuple(colour_at(laid.mesh, grey.astype(float)))
    before = off(laid.mesh, truth).mean()
    after = off(adjusted(laid.mesh, Adjustment(white=white)), truth)
    assert after.mean() <= 3.0 < before


def test_a_colour_camera_apart_gives_the_same_colours(captures, processed, truth) -> None:
    state, scanners = processed[0], captures[2:]
    laid = laid_under(
        state,
        lambda p, n: {
            "source": OtherCamera(p.source, scanners[n]),
            "colour_camera": OtherCamera.camera,
            "T_depth_colour": OtherCamera.T_depth_colour,
        },
    )
    assert off(laid.mesh, truth).mean() <= 2.5


def test_a_photograph_apart_is_seen_from_the_depth_camera(captures, processed) -> None:
    scan, scanner = processed[0].passes[0], captures[2]
    apart = replace(
        scan,
        source=OtherCamera(scan.source, scanner),
        colour_camera=OtherCamera.camera,
        T_depth_colour=OtherCamera.T_depth_colour,
    )
    own, warped = scan.colour_in_depth_view(3), apart.colour_in_depth_view(3)
    inside = (scan.source.depth(3) > 0) & scan.keep_mask(3) & (warped.sum(axis=2) > 0)
    assert inside.sum() > 2000
    error = np.abs(own[inside].astype(int) - warped[inside])
    assert np.median(error) <= 4
    rows, columns = slice(40, 90), slice(60, 150)
    assert np.array_equal(apart.colour_in_depth_view(3, (rows, columns)), warped[rows, columns])


def test_photographs_can_be_left_out_and_are_told(processed) -> None:
    state = processed[0]
    run = get_operation("lay_colour").run
    parameters = get_operation("lay_colour").parameters
    after, report = run(state, parameters.from_dict({"size": 0, "without": {"tipped": [[0, 11]]}}), silent)
    assert report["photographs"] == 12 and report["texture"] == len(after.mesh.texture.image)
    texture = after.mesh.texture
    assert {title for title, _ in texture.photos} == {"upright"}
    assert texture.photo.max() <= 12 and (texture.photo > 0).mean() > 0.2
    again, other = run(state, parameters.from_dict({"size": 512, "passes": ["upright"]}), silent)
    assert other["photographs"] == 12 and np.array_equal(again.mesh.colours, after.mesh.colours)
    with pytest.raises(ParameterError, match="no pass"):
        run(state, parameters.from_dict({"without": {"lying": [1]}}), silent)


def test_a_size_keeps_what_photographs_resolve() -> None:
    ball = uv_sphere(30, 32, 64)
    assert own_size(ball, 0.4) == 512 and own_size(ball, 0.1) == 2048 and own_size(ball, 0.0001) == 8192
    assert own_size(ball, 0.0) == 2048


def test_every_number_of_an_adjustment_does_what_it_says() -> None:
    grey = np.linspace(0.02, 0.9, 12)[:, None] * np.ones(3)
    red = np.array([[0.5, 0.2, 0.1]])
    luma = np.array([0.2126, 0.7152, 0.0722])
    assert np.allclose(Adjustment().of_linear(grey), grey, atol=1e-5)
    assert np.allclose(Adjustment(light=0.5).of_linear(grey), 2 * grey, rtol=1e-4)
    flat = Adjustment(contrast=-1).of_linear(grey)
    assert np.ptp(np.log(flat)) == pytest.approx(np.ptp(np.log(grey)) / 2, rel=1e-3)
    assert Adjustment(contrast=0.7).of_linear(np.full((1, 3), 0.18)) == pytest.approx(0.18, rel=1e-3)
    dark, bright = grey[:1], grey[-1:]
    assert Adjustment(shadows=1).of_linear(dark)[0, 0] > 1.8 * dark[0, 0]
    assert Adjustment(shadows=1).of_linear(bright) == pytest.approx(bright, rel=1e-3)
    assert Adjustment(highlights=-1).of_linear(bright)[0, 0] < 0.6 * bright[0, 0]
    assert Adjustment(highlights=-1).of_linear(dark) == pytest.approx(dark, rel=1e-3)
    assert np.allclose(Adjustment(saturation=-1).of_linear(red), red @ luma, atol=1e-4)
    warm = Adjustment(warmth=1).of_linear(red)[0]
    assert warm[0] > red[0, 0] and warm[2] < red[0, 2]
    assert Adjustment(tint=1).of_linear(grey)[5, 1] < grey[5, 1]
    assert np.allclose(Adjustment(gamma=2).of_linear(grey), np.sqrt(grey), rtol=1e-3)
    tinted = np.array([[230.0, 200.0, 150.0]])
    whitened = Adjustment(white=tuple(tinted[0])).of_srgb(tinted.astype(np.uint8))
    assert np.ptp(whitened.astype(int)) <= 1
    # However strong, brighter stays brighter.
    ramp = np.linspace(0.001, 1, 400)[:, None] * np.ones(3)
    hard = Adjustment(highlights=-1, shadows=1, contrast=-0.3).of_linear(ramp)
    assert (np.diff(hard[:, 0]) > 0).all()


def painted(colour: np.ndarray) -> TriangleMesh:
    """A plate of 40 mm with a texture of one chart and a grain of 2 %."""
    plate = grid_plane(40, 40, 2.0)
    uv = plate.vertices[plate.faces][:, :, :2] / 40
    grain = 1 + np.random.default_rng(0).normal(0, 0.02, (256, 256, 1))
    image = to_srgb(to_linear(colour.astype(np.uint8)) * grain)
    # Row 0 of a texture is its upper edge.
    return replace(plate, texture=Texture(image[::-1], uv.astype(np.float32), 1.0), colours=None)


def test_what_is_healed_takes_the_colour_around_it_with_its_grain() -> None:
    shown = np.full((256, 256, 3), (150, 120, 90))
    v, u = np.mgrid[:256, :256] * 40 / 256
    shown[np.hypot(u - 20, v - 20) < 5] = 250
    mesh = painted(shown)
    marks = Marks((BallStroke(((20.0, 20.0, 0.0),), 7.5),))
    state, report = get_operation("heal_colour").run(
        ScanState(mesh=mesh, notes={STRANGE: [{"kind": "glare", "at": [20, 20, 0], "area_mm2": 60, "views": 2}]}),
        get_operation("heal_colour").parameters(marks=marks),
        silent,
    )
    healed = state.mesh.texture.image[::-1]
    inside = np.hypot(u - 20, v - 20) < 4.5
    mean = to_linear(healed[inside]).mean(axis=0)
    assert mean == pytest.approx(to_linear(np.array([150, 120, 90], np.uint8)), rel=0.02)
    spread = lambda image, where: to_linear(image[where]).std(axis=0)[0] / mean[0]  # noqa: E731
    assert 0.01 < spread(healed, inside) < 0.04
    untouched = np.hypot(u - 20, v - 20) > 11
    assert np.array_equal(healed[untouched], mesh.texture.image[::-1][untouched])
    assert report["texels"] > 5000 and state.notes[STRANGE] == []
    assert state.mesh.texture.at(np.array([[0.5, 0.5]]))[0, 0] < 170


def test_vertex_colours_are_healed_too_and_too_much_is_refused() -> None:
    ball = uv_sphere(20, 32, 64)
    colours = np.full((len(ball.vertices), 3), 100, np.uint8)
    colours[ball.vertices[:, 2] > 17] = 255
    ball = replace(ball, colours=colours)
    marked = ball.face_centres()[:, 2] > 15
    healed = heal_colour(ball, marked)
    assert healed.texels == 0 and np.abs(healed.mesh.colours.astype(int) - 100).max() <= 1
    with pytest.raises(StepNotPossible, match="half"):
        heal_colour(ball, ball.face_centres()[:, 2] > -15)
    with pytest.raises(StepNotPossible, match="Lay colour"):
        heal_colour(replace(ball, colours=None), marked)


def test_an_adjustment_stays_apart_and_goes_with_the_state(tmp_path) -> None:
    mesh = painted(np.full((256, 256, 3), (150, 120, 90)))
    run, parameters = (getattr(get_operation("adjust_colour"), name) for name in ("run", "parameters"))
    state, report = run(ScanState(mesh=mesh), parameters.from_dict({"white": [20, 20, 0], "light": 0.2}), silent)
    assert state.mesh is mesh and report["adjust"]["white"] == pytest.approx([150, 120, 90], abs=2)
    by_colour, _ = run(ScanState(mesh=mesh), parameters.from_dict({"white": "#96785a", "light": 0.2}), silent)
    assert by_colour.notes[ADJUST]["white"] == [150, 120, 90]
    store = ArrayStore(tmp_path)
    again = load_state(save_state(state, store), store, lambda key: None)
    assert again.notes[ADJUST] == state.notes[ADJUST] and again.mesh.texture.photos == ()
    baked = adjusted(again.mesh, Adjustment.from_json(again.notes[ADJUST])).texture.image
    assert np.ptp(np.median(baked.reshape(-1, 3), axis=0)) <= 2
    assert np.median(baked) > np.median(mesh.texture.image)
    assert summarise_state(again)["adjust"]["light"] == 0.2
    back, report = run(state, parameters(), silent)
    assert not Adjustment.from_json(back.notes[ADJUST]).changes
    assert get_operation("adjust_colour").headline_of(report) == "as laid"


def test_glare_that_was_left_out_is_a_finding_with_a_place(processed) -> None:
    place = {"kind": "glare", "at": [1.0, 2.0, 3.0], "area_mm2": 41.0, "views": 2}
    told = [
        f for f in findings(summarise_state(replace(processed[0], notes={STRANGE: [place]}))) if f["kind"] == "glare"
    ]
    assert (
        told[0]["operation"] == "heal_colour"
        and told[0]["place"] == [1.0, 2.0, 3.0]
        and "2 photographs" in told[0]["detail"]
    )


def test_white_is_a_place_or_a_colour() -> None:
    parameters = get_operation("adjust_colour").parameters
    for value in ("#c8b491", [1, 2, 3], "1,2,3"):
        kept = parameters.from_dict({"white": value})
        assert parameters.from_dict(kept.as_dict()) == kept == parameters.from_dict(kept.as_text())
    for bad in ("#12", "red", [1, 2], 7):
        with pytest.raises(ParameterError, match="white"):
            parameters.from_dict({"white": bad})
    laid = get_operation("lay_colour").parameters
    kept = laid.from_dict({"without": "upright=0-2,9;tipped=3"})
    assert kept.without == (("upright", 0), ("upright", 1), ("upright", 2), ("upright", 9), ("tipped", 3))
    assert laid.from_dict(kept.as_dict()) == kept == laid.from_dict(kept.as_text())
    assert kept.as_dict()["without"] == {"upright": [[0, 2], 9], "tipped": [3]}
