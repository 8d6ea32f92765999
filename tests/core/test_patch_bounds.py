"""A made-up patch follows the curvature around it, and stays at its membrane where it would go where nothing may be."""

from dataclasses import replace

import numpy as np
from scenes import joined, one_pass

from lucid_relic.fusion.patches import RAMP, fair_patches
from lucid_relic.inspection.mesh_check import check_mesh
from lucid_relic.progress import silent
from lucid_relic.types import ScanState, TriangleMesh

RADIUS, CELLS, CUT = 40.0, 64, 14  # of a ball in mm, across its net, and of the net that is made up


def cap() -> TriangleMesh:
    """The top of a ball over a square net, its middle cut off flat and made up."""
    x, y = (a.ravel() for a in np.meshgrid(*[np.linspace(-20, 20, CELLS + 1)] * 2, indexing="ij"))
    corner = (np.arange(CELLS)[:, None] * (CELLS + 1) + np.arange(CELLS)).ravel()
    right, up = corner + CELLS + 1, corner + 1
    faces = np.concatenate([np.stack([corner, right, right + 1], 1), np.stack([corner, right + 1, up], 1)])
    height = np.sqrt(RADIUS**2 - x**2 - y**2)
    inside = (np.abs(x) < 40 / CELLS * CUT) & (np.abs(y) < 40 / CELLS * CUT)
    rim = np.sqrt(RADIUS**2 - (40 / CELLS * CUT) ** 2)
    points = np.stack([x, y, np.where(inside, rim, height)], axis=1)
    return TriangleMesh(points.astype(np.float32), faces.astype(np.int32), made_up=inside[faces].any(axis=1))


def below_the_ball(mesh: TriangleMesh) -> np.ndarray:
    return RADIUS - np.linalg.norm(mesh.vertices, axis=1)


def test_a_cap_that_was_cut_off_comes_back() -> None:
    flat = cap()
    faired, moved = fair_patches(ScanState(()), flat, silent)
    assert moved == 1 and below_the_ball(flat).max() > 0.9
    assert np.abs(below_the_ball(faired)).max() < 0.15


def test_only_around_a_crossing_a_patch_stays_at_its_membrane() -> None:
    # A needle stands 0.1 mm over the flat middle, where the cap would go through it.
    needle = TriangleMesh(
        np.array([[4.9, 5.1, 40.6], [5.3, 5.0, 40.6], [5.1, 5.2, 60.0]], np.float32) - [0, 0, 1.45],
        np.array([[0, 1, 2]], np.int32), made_up=np.zeros(1, bool),
    )  # fmt: skip
    flat = cap()
    both = replace(joined(flat, needle), made_up=np.append(flat.made_up, False))
    faired, moved = fair_patches(ScanState(()), both, silent)
    assert moved == 1 and check_mesh(faired).self_intersections == 0
    raised = (faired.vertices - both.vertices)[: len(flat.vertices), 2]
    away = np.linalg.norm(flat.vertices[:, :2] - [5.1, 5.1], axis=1)
    assert np.abs(raised[away < 0.5]).max() < 0.05, "under the needle it stays where it was"
    far = (away > 40 / CELLS * 1.5 * RAMP) & (np.abs(flat.vertices[:, :2]) < 40 / CELLS * CUT).all(axis=1)
    assert far.sum() > 100 and np.abs(below_the_ball(faired)[: len(flat.vertices)][far]).max() < 0.15


def test_a_patch_does_not_sink_below_its_plate_but_bulges_above_it() -> None:
    # Upside down, with the plate through the flat middle: there the cap would go through the plate everywhere.
    flat = cap()
    for height, may in ((60.0, True), (float(flat.vertices[flat.made_up.argmax(), 2]) - 3, False)):
        scan = replace(one_pass(), plate=np.array([0.0, 0.0, -1.0, -height]))
        faired, moved = fair_patches(ScanState((scan,)), flat, silent)
        assert (moved == 1) == may and np.array_equal(faired.vertices, flat.vertices) != may
