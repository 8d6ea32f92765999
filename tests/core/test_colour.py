"""Colour: gains and shading from overlaps, views that fade, unseen texels."""

from dataclasses import replace

import numpy as np
import pytest
from scenes import hidden_colours, uv_sphere
from scipy.ndimage import gaussian_filter

from lucid_relic.colour.even_light import even_light
from lucid_relic.colour.lay import lay_colour
from lucid_relic.colour.photographs import LEAST_SHARP, Photographs, View, relative_sharpness, sharpness
from lucid_relic.errors import StepNotPossible
from lucid_relic.geometry.rigid import inverse
from lucid_relic.light.difference import delta_e_2000, lab_of_linear
from lucid_relic.light.srgb import to_linear, to_srgb
from lucid_relic.progress import silent
from lucid_relic.types import Camera, Part, ScanState

BALL = uv_sphere(20, 48, 96)


def ball_view(angle: float, gain: float, shaded: bool) -> View:
    """A photograph of the ball of 20 mm radius seen from 150 mm, grey by height, with its own exposure."""
    camera = Camera.centred(160, 120, 320.0)
    c, s = np.cos(angle), np.sin(angle)
    pose = np.eye(4)
    pose[:3, :3] = np.stack([[-s, c, 0], [0, 0, -1], [-c, -s, 0]], axis=1)
    pose[:3, 3] = [150 * c, 150 * s, 0]
    rays = np.concatenate([camera.rays, np.ones((120, 160, 1))], axis=2)
    unit = rays / np.linalg.norm(rays, axis=2, keepdims=True)
    b = unit[..., 2] * 150.0
    inside = b**2 - (150.0**2 - 400.0)
    t = np.where(inside > 0, b - np.sqrt(np.maximum(inside, 0)), 0)
    place = (unit * t[..., None]) @ pose[:3, :3].T + pose[:3, 3]
    facing = -((place / 20.0) * (unit @ pose[:3, :3].T)).sum(axis=2)
    own = 0.3 + 0.1 * np.sin(place / 5.0)
    light = 0.4 + 0.6 * np.clip(facing, 0, 1) if shaded else np.ones_like(facing)
    image = to_srgb(np.where((t > 0)[..., None], own * light[..., None] * gain, 0.0))
    trust = np.where(t > 0, np.clip(facing, 0, 1) ** 2, 0).astype(np.float32)
    depth = (t * unit[..., 2]).astype(np.float32)
    return View(inverse(pose), camera.as_vector, depth, trust, np.eye(4), camera.as_vector, image)


def test_gains_of_photographs_are_found() -> None:
    gains = np.array([1.0, 1.4, 0.7, 1.1, 0.85, 1.25, 0.95, 1.05])
    photos = Photographs(ball_view(k * np.pi / 4, g, shaded=False) for k, g in enumerate(gains))
    light = even_light(BALL, BALL.vertex_normals(), photos, 0.5)
    expected = np.log(gains) - np.log(gains).mean()
    assert np.abs(light.gain - expected[:, None]).max() < 0.04
    assert np.abs(light.shade).max() < 0.06


def test_the_fall_of_the_light_is_taken_off() -> None:
    photos = Photographs(ball_view(k * np.pi / 5, 1.0, shaded=True) for k in range(10))
    light = even_light(BALL, BALL.vertex_normals(), photos, 0.5)
    slant = np.radians(np.arange(0, 61, 5))
    x = np.sin(slant)
    true = np.log(0.4 + 0.6 * np.cos(slant))
    found = light.shade[0, 0] * x + light.shade[0, 2] * x * x
    # A quadratic cannot follow this law to the rim; over slants to 60° it takes off most of it.
    assert np.abs(found - true).mean() < 0.35 * np.abs(true).mean()


def test_without_common_views_nothing_is_evened() -> None:
    light = even_light(BALL, BALL.vertex_normals(), Photographs([ball_view(0.0, 1.3, False)]), 0.5)
    assert not light.gain.any() and not light.shade.any()


def test_a_blurred_photograph_is_told_from_its_sharp_neighbours() -> None:
    # A mosaic of patches with noise of half a per cent, blurred as by a lens out of focus.
    rng = np.random.default_rng(4)
    patches = np.repeat(np.repeat(rng.uniform(40, 200, (24, 32, 1)), 10, axis=0), 10, axis=1) * [1.0, 0.9, 0.8]
    plain, varied = patches.mean(axis=(0, 1)) + np.zeros_like(patches), patches

    def taken(scene: np.ndarray, sigma: float) -> np.ndarray:
        return np.clip(gaussian_filter(scene, (sigma, sigma, 0)) + rng.normal(0, 1.2, scene.shape), 0, 255).astype(
            np.uint8
        )

    sharp = [sharpness(taken(varied, 0.5)) for _ in range(4)]
    blurred = sharpness(taken(varied, 2.0))
    share = relative_sharpness(np.array([*sharp, blurred]))
    assert share[:4].min() > 0.9 and share[4] < 0.7
    assert share.min() >= LEAST_SHARP
    # A plain surface has nothing to judge blur by, and is not called blurred.
    assert relative_sharpness(np.array([*sharp, sharpness(taken(plain, 2.0))]))[-1] > 0.9


def test_seen_colour_is_right_to_within_what_the_eye_tells(captures, processed) -> None:
    # The simulator's albedo is truth here; its exposure and frontal light are one common factor.
    state = processed[0]
    hidden, seen = hidden_colours(state.mesh, captures[2], state.passes[0])
    shown = to_linear(state.mesh.colours).astype(float)
    shown = np.clip(shown / np.median(shown[seen] / hidden[seen]), 0, 1)
    error = delta_e_2000(lab_of_linear(shown[seen]), lab_of_linear(hidden[seen]))
    assert error.mean() < 4.0


def test_unseen_texels_are_marked(processed) -> None:
    texture = processed[0].mesh.texture
    assert texture.unseen.shape == texture.image.shape[:2]
    assert 0 < texture.unseen.mean() < 0.3


def test_no_photographs_no_colour(processed) -> None:
    class Blind:
        key = "blind"

        def __init__(self, source) -> None:
            self.depth = source.depth

        def colour(self, index: int, part: Part | None = None) -> None:
            return None

    state = processed[0]
    blind = tuple(replace(p, source=Blind(p.source)) for p in state.passes)
    with pytest.raises(StepNotPossible, match="no colour to lay"):
        lay_colour(ScanState(blind, mesh=state.mesh), state.mesh, 256, silent)
