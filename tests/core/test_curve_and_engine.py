"""The deviation curve against real reductions, and the engine check against textures laid by hand."""

from dataclasses import replace

import numpy as np
import pytest
from scenes import torus, uv_sphere

from lucid_relic.demo.objects import demo_model
from lucid_relic.geometry.topology import edge_table
from lucid_relic.inspection.engine_check import ENGINES, engine_check, overlap_share, texels_per_mm
from lucid_relic.mending.curve import CurvePoint, deviation_curve, measure_off, read_off
from lucid_relic.mending.simplify import simplify
from lucid_relic.operations import get_operation
from lucid_relic.progress import silent
from lucid_relic.types import ScanState, Texture, TriangleMesh


def lump() -> TriangleMesh:
    """A torus with waves on it, 60 000 triangles."""
    mesh = torus(30.0, 10.0, 250, 120)
    p = mesh.vertices
    wave = 1 + 0.03 * np.sin(0.9 * p[:, :1]) * np.sin(0.7 * p[:, 1:2]) + 0.02 * np.sin(0.5 * p[:, 2:])
    return replace(mesh, vertices=(p * wave).astype(np.float32))


def test_the_curve_tells_what_real_reductions_give() -> None:
    mesh = lump()
    curve = deviation_curve(mesh)
    counts = [p.triangles for p in curve]
    assert counts[0] == len(mesh.faces) and counts == sorted(counts, reverse=True) and counts[-1] >= 500
    assert [p.mean_mm for p in curve] == sorted(p.mean_mm for p in curve)
    for share in (0.45, 0.27, 0.13, 0.06, 0.03):
        count = int(share * len(mesh.faces))
        real, told = measure_off(mesh, simplify(mesh, count).mesh), read_off(curve, count)
        assert told.mean_mm == pytest.approx(real.mean_mm, rel=0.1) and told.p95_mm == pytest.approx(
            real.p95_mm, rel=0.1
        )


def test_the_curve_is_read_between_its_points_as_a_power() -> None:
    curve = [CurvePoint(n, 0.0 if n == 4096 else 64 / n, 32 / n, 16 / n) for n in (4096, 1024, 256, 64)]
    assert read_off(curve, 512).mean_mm == pytest.approx(16 / 512)
    assert read_off(curve, 10**9).p95_mm == pytest.approx(32 / 4096) and read_off(curve, 1).max_mm == pytest.approx(1)
    step = get_operation("simplify_curve")
    state = ScanState((), mesh=lump())
    after, report = step.run(state, step.parameters(), silent)
    assert after is state and report["curve"][0]["mean_mm"] == 0
    assert step.headline_of(report) == "60\u2009k to 750"


def test_a_hundredth_of_the_triangles_keeps_the_shape_of_an_owl() -> None:
    """Its feathers cross when they are reduced so far: sparing them all would leave nothing for the rest."""
    owl = demo_model("owl").mesh
    few = simplify(owl, len(owl.faces) // 100).mesh
    assert len(few.faces) <= len(owl.faces) // 100 and measure_off(owl, few).mean_mm < 0.1


def chart(mesh: TriangleMesh, twice: bool) -> Texture:
    """Every triangle in a cell of its own of the texture; with twice some of them in the cell of another."""
    m = len(mesh.faces)
    side = int(np.ceil(np.sqrt(m)))
    cell = np.stack([np.arange(m) % side, np.arange(m) // side], axis=1) / side
    if twice:
        cell[: m // 10] = cell[m // 10 : 2 * (m // 10)]
    corners = np.array([[0.05, 0.05], [0.9, 0.05], [0.05, 0.9]]) / side
    uv = (cell[:, None] + corners[None]).astype(np.float32)
    return Texture(np.zeros((1024, 1024, 3), np.uint8), uv, 1.0)


def test_texels_and_overlap_of_layouts_that_are_known() -> None:
    quad = TriangleMesh(np.float32([[0, 0, 0], [64, 0, 0], [64, 64, 0], [0, 64, 0]]), np.int32([[0, 1, 2], [0, 2, 3]]))
    whole = np.float32([[[0, 0], [1, 0], [1, 1]], [[0, 0], [1, 1], [0, 1]]])
    laid = Texture(np.zeros((512, 512, 3), np.uint8), whole, 1.0)
    assert texels_per_mm(quad, laid) == pytest.approx(8.0) and overlap_share(whole) == 0
    ball = uv_sphere(10.0, 24, 48)
    assert overlap_share(chart(ball, False).uv) == 0
    assert overlap_share(chart(ball, True).uv) == pytest.approx(0.2, abs=0.01)


def test_each_thing_that_an_engine_minds_is_told_with_its_mend() -> None:
    ball = uv_sphere(10.0, 24, 48)
    ball = replace(ball, vertices=ball.vertices + np.float32([0, 0, 10]))
    sound = replace(ball, texture=chart(ball, False))
    assert engine_check(sound, ENGINES["page"]).ready
    failing = lambda mesh, use="page": {c.name: c.mend for c in engine_check(mesh, ENGINES[use]).checks if not c.holds}  # noqa: E731
    assert failing(ball) == {"texture": "lay_colour"}
    assert failing(replace(ball, texture=chart(ball, True))) == {"overlap": "lay_colour"}
    assert failing(replace(sound, vertices=sound.vertices + np.float32([5, 0, 0]))) == {"pivot": "stand_up"}
    assert failing(replace(sound, faces=sound.faces[:, ::-1].copy())) == {"normals": "repair"}
    coarse = replace(sound.texture, image=np.zeros((128, 128, 3), np.uint8))
    assert failing(sound, "film") == {} and failing(replace(sound, texture=coarse)) == {"texture": "lay_colour"}
    small = replace(sound, vertices=sound.vertices / 10)
    assert failing(small) == {"size": None}
    step = get_operation("engine_check")
    state, report = step.run(ScanState((), mesh=ball), step.parameters(engine="game"), silent)
    assert state.mesh is ball and not report["ready"] and step.headline_of(report) == "1 of 5 do not hold"
    assert edge_table(ball.faces)[1].max() == 2
