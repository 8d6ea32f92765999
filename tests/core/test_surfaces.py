"""What the viewer gets of surfaces: holes, walls, takes and how far they lie apart, against shapes that are known."""

from dataclasses import replace

import numpy as np
import pytest
from scenes import joined, uv_sphere

from lucid_relic.errors import StepNotPossible
from lucid_relic.types import Texture, TriangleMesh
from lucid_relic.view import surfaces
from lucid_relic.view.packing import unpack_arrays


def test_holes_come_with_their_corners_the_longest_first() -> None:
    ball = uv_sphere(20.0)
    keep = np.ones(len(ball.faces), bool)
    for place, size in (((0, 0, 20), 12), ((20, 0, 0), 5)):
        keep &= np.linalg.norm(ball.face_centres() - place, axis=1) > size / 2
    head, arrays = unpack_arrays(surfaces.packed_rims(ball.select_faces(keep)))
    assert [h["size_mm"] for h in head["holes"]] == [pytest.approx(12, rel=0.2), pytest.approx(5, rel=0.3)]
    assert [h["area_mm2"] for h in head["holes"]][0] == pytest.approx(np.pi * 36, rel=0.3)
    assert arrays["begins"].tolist()[0] == 0 and arrays["begins"][-1] == len(arrays["places"])
    first = arrays["places"][: arrays["begins"][1]]
    assert np.linalg.norm(first - [0, 0, 20], axis=1).max() < 7
    assert unpack_arrays(surfaces.packed_rims(ball))[0]["holes"] == []


def test_how_far_a_take_lies_off_another_has_a_side() -> None:
    small, large = uv_sphere(20.0), uv_sphere(20.5)
    off = unpack_arrays(surfaces.packed_off(large, small))[1]["figures"]
    assert len(off) == len(large.vertices) and off == pytest.approx(0.5, abs=0.02)
    assert unpack_arrays(surfaces.packed_off(small, large))[1]["figures"] == pytest.approx(-0.5, abs=0.02)


def test_a_take_of_many_triangles_is_shown_with_fewer(monkeypatch: pytest.MonkeyPatch) -> None:
    ball = uv_sphere(20.0)
    assert surfaces.shown_take(ball) is ball
    for name, most in (("MOST_AT_ONCE", 3000), ("GLANCED", 2000), ("MOST_SHOWN", 2000)):
        monkeypatch.setattr(surfaces, name, most)
    for whole in (False, True):
        few = surfaces.shown_take(ball, whole)
        assert 800 < len(few.faces) <= 2200
        off = unpack_arrays(surfaces.packed_off(ball, ball, whole))[1]["figures"]
        assert len(off) == len(few.vertices) and np.abs(off).max() < (0.2 if whole else 1e-5)
    own = {tuple(v) for v in ball.vertices.tolist()}
    assert all(tuple(v) in own for v in surfaces.shown_take(ball).vertices.tolist()), (
        "what is measured at a glance is true"
    )
    assert surfaces.take_glb(ball)[:4] == b"glTF"


def test_walls_are_told_at_every_vertex_that_is_shown() -> None:
    inner = uv_sphere(18.0)
    shell = joined(uv_sphere(20.0), TriangleMesh(inner.vertices, inner.faces[:, ::-1].copy()))
    walls = unpack_arrays(surfaces.packed_walls(shell))[1]["figures"]
    assert len(walls) == len(shell.vertices)
    assert np.median(walls[walls > surfaces.NOT_KNOWN / 2]) == pytest.approx(2.0, rel=0.02)
    # A texture splits vertices at its seams, and not the body.
    cells = np.arange(3 * len(shell.faces)).reshape(-1, 3, 1) / (3 * len(shell.faces))
    laid = replace(
        shell, texture=Texture(np.zeros((4, 4, 3), np.uint8), np.repeat(cells, 2, axis=2).astype(np.float32), 1.0)
    )
    assert len(unpack_arrays(surfaces.packed_walls(laid))[1]["figures"]) == 3 * len(shell.faces)
    with pytest.raises(StepNotPossible, match="Only a closed surface"):
        surfaces.packed_walls(shell.select_faces(np.arange(len(shell.faces)) > 10))
