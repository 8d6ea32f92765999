"""Borders of flat faces, and frames that nothing holds in some direction: a face alone in view slides along itself."""

from dataclasses import replace

import numpy as np
import pytest
from scenes import Field, rendered_state, ring_of_views

from lucid_relic.alignment import views as views_module
from lucid_relic.alignment.borders import NO_BORDERS
from lucid_relic.alignment.loose import LOOSE_SPACINGS, is_loose, plays_among, seen_by_others
from lucid_relic.alignment.play import play_mm
from lucid_relic.alignment.settle import settle
from lucid_relic.alignment.views import frame_view
from lucid_relic.demo.shapes import box
from lucid_relic.geometry.rigid import inverse, small_motion
from lucid_relic.inspection.findings import findings
from lucid_relic.inspection.summary import summarise_state
from lucid_relic.progress import silent
from lucid_relic.types import Camera, PassState, ScanState

CAMERA = Camera.centred(160, 120, 220.0)
WIDE, HIGH, FAR = 40.0, 26.0, 150.0


def slab(p: np.ndarray) -> np.ndarray:
    """40 × 26 × 12 mm about the origin, its wide faces along x and z, with sharp edges."""
    return box(p, (0, 0, 0), (WIDE / 2, 6, HIGH / 2), 0.0)


def ball(p: np.ndarray) -> np.ndarray:
    return np.linalg.norm(p, axis=1) - 18.0


def of(field: Field, poses: np.ndarray, noise_mm: float = 0.05, camera: Camera = CAMERA) -> PassState:
    return rendered_state(field, poses, camera, noise_mm).passes[0]


def rolled(pose: np.ndarray, degrees: float) -> np.ndarray:
    """The same view with the head turned about its line of sight."""
    return pose @ small_motion(np.radians([0, 0, degrees, 0, 0, 0]))


def test_a_border_lies_where_the_edge_is_and_points_away_from_its_face() -> None:
    straight = ring_of_views(4, FAR, (0.0,), (0, 0, 0))[1]
    poses = np.stack([rolled(straight, a) for a in (7, 19, 33, 48, 64, 81)])
    scan, offs = of(slab, poses), []
    for i, pose in enumerate(poses):
        found = frame_view(scan, i, cleaned=False).borders
        points, across, normals = found.placed(pose)
        assert len(found) > 100 and np.abs(normals @ [0, 1, 0]).min() > 0.98
        aside, upright = (np.abs(across[:, k]) > 0.95 for k in (0, 2))
        assert (aside | upright).mean() > 0.85, "but for the corners"
        offs.append(points[aside, 0] * np.sign(across[aside, 0]) - WIDE / 2)
        offs.append(points[upright, 2] * np.sign(across[upright, 2]) - HIGH / 2)
    off = np.concatenate(offs) / (FAR / CAMERA.fx)
    assert abs(np.median(off)) < 0.1 and np.quantile(np.abs(off), 0.9) < 0.7, "pixels"


def test_the_outline_of_a_round_body_is_no_border() -> None:
    views = ring_of_views(6, FAR, (20.0,), (0, 0, 0))
    assert [len(frame_view(of(ball, views), i, cleaned=False).borders) for i in range(6)] == [0] * 6


def shifted(scan: PassState, frame: int, mm: float) -> PassState:
    """One frame moved along x, which is along the wide faces."""
    poses = scan.frame_poses.copy()
    poses[frame] = small_motion(np.array([0, 0, 0, mm, 0, 0])) @ poses[frame]
    return replace(scan, frame_poses=poses, turntable=None)


@pytest.mark.parametrize(("bordered", "within_mm"), [(True, 0.25), (False, np.inf)])
def test_borders_bring_back_a_frame_that_slid_along_its_face(
    bordered: bool, within_mm: float, monkeypatch: pytest.MonkeyPatch
) -> None:
    poses = ring_of_views(24, FAR, (0.0,), (0, 0, 0))
    scan = of(slab, poses)
    if not bordered:
        monkeypatch.setattr(views_module, "borders_of", lambda *_: NO_BORDERS)
    settled = settle((shifted(scan, 6, 1.5),), silent, cleaned=False, drop_bad=False).passes[0]
    gauge = poses[5] @ inverse(settled.frame_poses[5])
    off = (gauge @ settled.frame_poses[6] @ inverse(poses[6]))[:3, 3]
    assert np.linalg.norm(off) < within_mm
    assert bordered or np.linalg.norm(off) > 0.4, "nothing but the borders tells it"


def test_the_play_of_a_frame_is_that_of_its_worst_held_motion() -> None:
    points = np.random.default_rng(1).uniform(-10, 10, (500, 3))
    hold = np.zeros((6, 6))
    for p, n in zip(points, np.eye(3)[np.arange(500) % 3], strict=True):
        row = np.concatenate([np.cross(p, n), n]) / 0.1
        hold += np.outer(row, row)
    # 500 points on planes that face three ways, each to 0.1 mm: a third of them holds each shift.
    assert play_mm(hold, points) == pytest.approx(0.1 / np.sqrt(500 / 3), rel=0.1)
    hold[3, :] = hold[:, 3] = 0.0
    hold[3, 3] = 4.0
    assert play_mm(np.triu(hold), points) == pytest.approx(0.5, rel=0.02), "along x it is held to half a mm"
    assert list(is_loose(np.array([0.3, 0.5]), 0.4 / LOOSE_SPACINGS)) == [False, True]


def wall(p: np.ndarray) -> np.ndarray:
    """A flat wall on y = 0 that fills every view but for two knobs on it, far to the right."""
    knobs = [np.linalg.norm(p - [x, 0, z], axis=1) - 16.0 for x, z in ((60.0, -18.0), (85.0, 15.0))]
    return np.minimum.reduce([p[:, 1], *knobs])


def walk(xs: np.ndarray) -> np.ndarray:
    """A head that walks along the wall, 150 mm off it, and looks straight at it."""
    straight = ring_of_views(4, FAR, (0.0,), (0, 0, 0))[1]
    return np.stack([small_motion(np.array([0, 0, 0, x, 0, 0])) @ straight for x in xs])


def test_loose_frames_stay_and_are_named_where_no_other_sees_the_same() -> None:
    # The first half sees the bare wall, the other half the knobs.
    scan = replace(of(wall, walk(np.linspace(-45, 75, 12))), turntable=None)
    result = settle((scan,), silent, cleaned=False)
    loose = result.passes[0].loose
    assert set(loose) >= {0, 1, 2, 3} and not set(loose) & {9, 10, 11}
    told = [f for f in findings(summarise_state(ScanState(result.passes))) if f["kind"] == "loose frames"]
    assert len(told) == 1 and not {i for _, i in result.dropped} & {0, 1}
    assert told[0]["detail"].startswith("Frames 1, 2, ")


def test_a_frame_is_spared_where_two_others_see_all_of_it() -> None:
    scan = of(slab, ring_of_views(24, FAR, (0.0,), (0, 0, 0))[4:9])
    views = [frame_view(scan, i, cleaned=False) for i in range(5)]
    others = [(scan.frame_poses[i], views[i]) for i in (0, 1, 3, 4)]
    assert seen_by_others(views[2], scan.frame_poses[2], others)
    assert not seen_by_others(views[2], scan.frame_poses[2], others[:1]), "one alone is not enough"
    other_side = np.diag([-1.0, -1.0, 1.0, 1.0])
    assert not seen_by_others(views[2], other_side @ scan.frame_poses[2], others)


def test_frames_that_hold_each_other_alone_are_loose_together() -> None:
    # Four frames on a line, each tied to the next by a stiff spring, the pairs in the middle by a soft one.
    ties = [(0, 1, 400.0), (1, 2, 4.0), (2, 3, 400.0)]
    hessian = np.zeros((24, 24))
    for a, b, stiff in ties:
        for i, j, sign in ((a, a, 1), (b, b, 1), (a, b, -1), (b, a, -1)):
            hessian[6 * i : 6 * i + 6, 6 * j : 6 * j + 6] += sign * stiff * np.eye(6)
    corners = np.array([[x, y, z] for x in (-1, 1) for y in (-1, 1) for z in (-1, 1)]) / 1e3
    alone = [play_mm(hessian[6 * k : 6 * k + 6, 6 * k : 6 * k + 6], corners) for k in range(4)]
    assert max(alone) < 0.06
    # Of equals the first one stands for all: it and its partner are held to 1/√400 mm, the others to 1/√4 mm more.
    assert plays_among(hessian, [corners] * 4) == pytest.approx([0.05, 0, 0.5, np.hypot(0.5, 0.05)], abs=0.01)


def test_a_frame_alone_is_not_loose_and_frames_that_share_nothing_are() -> None:
    poses = ring_of_views(4, FAR, (0.0,), (0, 0, 0))
    one = replace(of(slab, poses[1:2]), turntable=None)
    assert settle((one,), silent, cleaned=False).passes[0].loose == ()
    # Opposite sides of the slab.
    two = replace(of(slab, poses[[1, 3]]), turntable=None)
    result = settle((two,), silent, cleaned=False, drop_bad=False)
    assert len(result.passes[0].loose) == 1 and np.isfinite(result.passes[0].frame_poses).all()
