"""A surface at a glance: fewer triangles, the same shape, its colours, and what of it is made up."""

from dataclasses import replace

import numpy as np
import pytest
from scenes import uv_sphere

from lucid_relic.types import Texture, TriangleMesh
from lucid_relic.view import glance
from lucid_relic.view.mesh_view import view_glb


@pytest.fixture
def ball(monkeypatch: pytest.MonkeyPatch) -> TriangleMesh:
    """Much larger than what is glanced at; red above, blue below, made up at one side."""
    monkeypatch.setattr(glance, "MOST_GLANCED", 2000)
    mesh = uv_sphere(20.0, 200)
    above = mesh.vertices[:, 2] > 0
    colours = np.where(above[:, None], (200, 30, 30), (30, 30, 200)).astype(np.uint8)
    return replace(mesh, colours=colours, made_up=mesh.face_centres()[:, 0] > 10)


def test_a_large_surface_keeps_its_shape_colours_and_what_is_made_up(ball: TriangleMesh) -> None:
    few = glance.glanced(ball)
    assert 1000 < len(few.faces) < 3000
    assert np.linalg.norm(few.vertices, axis=1) == pytest.approx(20.0, abs=0.4)  # a cell's side is 2.7
    assert few.volume_mm3() == pytest.approx(ball.volume_mm3(), rel=0.03)
    sure = np.abs(few.vertices[:, 2]) > 2
    assert np.array_equal(few.colours[sure, 0] > 100, few.vertices[sure, 2] > 0)
    assert few.made_up_area_fraction() == pytest.approx(ball.made_up_area_fraction(), abs=0.02)
    assert view_glb(few)[:4] == b"glTF" and len(view_glb(few)) < len(view_glb(ball)) / 10


def test_a_texture_is_told_by_colours(ball: TriangleMesh) -> None:
    image = np.zeros((64, 64, 3), np.uint8)
    image[:32, :, 1] = 220  # the upper half of the picture, which uv counts from below
    height = ball.corners[:, :, 2] / 50 + 0.5
    uv = np.stack([np.full_like(height, 0.5), height], axis=-1).astype(np.float32)
    few = glance.glanced(replace(ball, colours=None, texture=Texture(image, uv, 1.0)))
    assert few.texture is None
    sure = np.abs(few.vertices[:, 2]) > 3
    assert np.array_equal(few.colours[sure, 1] > 110, few.vertices[sure, 2] > 0)


def test_a_small_one_is_shown_whole(ball: TriangleMesh, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(glance, "MOST_GLANCED", len(ball.faces))
    assert glance.glanced(ball) is ball
