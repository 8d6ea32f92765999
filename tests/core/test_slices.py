"""Slices: outlines of known bodies, closed where they are closed, read by another library in millimetres."""

import io
import re
from pathlib import Path

import ezdxf
import numpy as np
import pytest
from scenes import torus, uv_sphere

from lucid_relic.delivery.receivers import Told, receiver
from lucid_relic.delivery.slices import heights, sliced, slices_dxf, slices_svg
from lucid_relic.errors import StepNotPossible
from lucid_relic.progress import silent
from lucid_relic.types import ScanState


def area(points: np.ndarray) -> float:
    """Signed area of a closed outline (shoelace formula): positive counter-clockwise."""
    x, y = points.T
    return float((x * np.roll(y, -1) - np.roll(x, -1) * y).sum() / 2)


@pytest.mark.parametrize("at", [-12.0, 0.0, 7.5])
def test_a_ball_is_cut_in_circles(at: float) -> None:
    ball = uv_sphere(20, 128, 256)
    [(points, closed)] = sliced(ball, "z", at).outlines
    assert closed and np.linalg.norm(points, axis=1) == pytest.approx(np.sqrt(400 - at**2), abs=0.02)
    assert abs(area(points)) == pytest.approx(np.pi * (400 - at**2), rel=2e-3)


def test_a_ring_has_two_outlines_that_run_opposite_ways_and_a_cut_one_is_open() -> None:
    ring = torus(30, 10)
    outlines = sliced(ring, "z", 0.3).outlines
    areas = sorted(area(points) for points, closed in outlines if closed)
    assert len(areas) == 2 and areas[0] < 0 < areas[1]
    assert sum(areas) == pytest.approx(np.pi * (40**2 - 20**2), rel=0.01)
    sideways = sliced(ring, "x", 0.1).outlines
    assert len(sideways) == 2 and all(area(p) == pytest.approx(np.pi * 100, rel=0.01) for p, _ in sideways)
    assert all(area(p) > 0 for p, _ in sliced(ring, "y", 0.1).outlines)
    half = ring.select_faces(ring.face_centres()[:, 1] > 0)
    [one, two] = sliced(half, "z", 0.3).outlines
    assert not one[1] and not two[1]
    assert sliced(ring, "z", 50.0).outlines == ()


def test_dxf_is_read_in_millimetres_with_a_layer_for_each_slice() -> None:
    ring = torus(30, 10)
    cut = [sliced(ring, "z", float(at)) for at in heights(ring, "z", 4.0)]
    document = ezdxf.read(io.StringIO(slices_dxf(cut, "z")))
    assert document.header["$INSUNITS"] == 4
    lines = list(document.modelspace().query("POLYLINE"))
    assert len(lines) == 2 * len(cut) == 10 and all(line.is_closed for line in lines)
    for line in lines:
        points = np.array([list(v.dxf.location)[:2] for v in line.vertices])
        at = line.vertices[0].dxf.location[2]
        inner, outer = 30 - np.sqrt(100 - at**2), 30 + np.sqrt(100 - at**2)
        assert min(abs(np.linalg.norm(points, axis=1).mean() - r) for r in (inner, outer)) < 0.1
    assert len({line.dxf.layer for line in lines}) == len(cut)


def test_a_drawing_has_its_true_size(tmp_path: Path) -> None:
    ball = uv_sphere(20, 64, 128)
    svg = slices_svg([sliced(ball, "y", 0.0)], "y", "A <ball>")
    width, height = (float(v) for v in re.search(r'width="([\d.]+)mm" height="([\d.]+)mm"', svg).groups())
    assert (width, height) == pytest.approx((50, 50), abs=0.1) and "A &lt;ball&gt;" in svg and svg.count("<path") == 1
    told = Told("Ball", "ball")
    drawing = receiver("drawing")
    (path,) = drawing.make(ScanState(mesh=ball), drawing.parameters(every_mm=8.0), told, tmp_path, silent)
    assert path.name == "ball-slices.svg" and path.read_text().count("<g ") == 5
    with pytest.raises(StepNotPossible, match="farther apart"):
        drawing.make(ScanState(mesh=uv_sphere(900)), drawing.parameters(every_mm=0.05), told, tmp_path, silent)
