"""What a hand marked is taken away, kept alone, set aside and brought back; loose pieces and borders go by themselves."""

import json
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from scenes import Rendered, cloud_pass, grid_plane, knot_field, rendered_state, ring_of_views
from scipy.spatial import cKDTree
from scipy.spatial.transform import Rotation

from lucid_relic.demo.shapes import box, sphere
from lucid_relic.errors import ParameterError, StepNotPossible
from lucid_relic.geometry.cells import Cells, shared_areas
from lucid_relic.geometry.depth_map import depth_map, frame_map
from lucid_relic.geometry.masks import pixels_where
from lucid_relic.geometry.rigid import difference
from lucid_relic.geometry.rims import pixels_off_rim
from lucid_relic.io.array_store import ArrayStore
from lucid_relic.io.snapshots import load_state, save_state
from lucid_relic.operations import get_operation
from lucid_relic.operations.shown import shown_points
from lucid_relic.progress import silent
from lucid_relic.types import BallStroke, Camera, Marks, PointCloud, ScanState, ScreenStroke, View
from lucid_relic.view.pass_view import PassView, pass_view

CAMERA = Camera.centred(160, 120, 260.0)
HORN = BallStroke(((22.0, 14.0, 52.0),), 9.0)
FRONT = View(((1, 0, 0, 0), (0, 0, -1, 24), (0, 1, 0, 200.0), (0, 0, 0, 1)), 30.0, 400, 300)


def run(state: ScanState, name: str, **parameters) -> tuple[ScanState, dict]:
    step = get_operation(name)
    return step.run(state, step.parameters.from_dict(parameters), silent)


def shown(state: ScanState, name: str, **parameters):
    step = get_operation(name)
    return step.preview(state, step.parameters.from_dict(parameters))


def as_json(*strokes, invert: bool = False) -> dict:
    step = get_operation("take_away")
    return step.parameters(marks=Marks(strokes, invert)).as_dict()["marks"]


def places(state: ScanState) -> np.ndarray:
    """All kept measurements in the object."""
    found = []
    for scan in state.passes:
        collect = lambda p, _: found.append(p) or np.zeros(len(p), bool)  # noqa: E731
        pixels_where(scan, collect, "", silent)
    return np.concatenate(found)


def in_horn(points: np.ndarray, more_mm: float = 0.0) -> np.ndarray:
    return np.linalg.norm(points - HORN.centres[0], axis=1) < HORN.radius_mm + more_mm


@pytest.fixture(scope="module")
def lump() -> ScanState:
    return rendered_state(knot_field, ring_of_views(8, 150.0, (30.0, -15.0), (0, 0, 24)), CAMERA)


def test_what_is_marked_goes_and_comes_back(lump: ScanState) -> None:
    before = places(lump)
    less, report = run(lump, "take_away", marks=as_json(HORN))
    (told,) = report["passes"]
    assert told["marked"] == in_horn(before).sum() == told["points_before"] - told["points_after"] > 100
    assert not in_horn(places(less)).any() and (~in_horn(before)).sum() == len(places(less))
    only, report = run(lump, "keep_only", marks=as_json(HORN))
    assert in_horn(places(only)).all() and len(places(only)) == told["marked"]
    back, report = run(less, "bring_back", what="taken", marks=as_json(HORN))
    assert len(places(back)) == len(before) and report["passes"][0]["points_after"] == told["marked"]
    # Inverted marks mean the rest, so that taking the rest away is keeping what was marked.
    rest, _ = run(lump, "take_away", marks=as_json(HORN, invert=True))
    assert len(places(rest)) == told["marked"]
    with pytest.raises(StepNotPossible, match="nothing to bring back"):
        run(lump, "bring_back", what="taken")


def test_what_is_set_aside_is_aligned_by_and_not_fused(lump: ScanState, tmp_path: Path) -> None:
    aside, report = run(lump, "set_aside", marks=as_json(HORN))
    assert report["passes"][0]["marked"] > 100 and len(places(aside)) == len(places(lump)), "it must stay for aligning"
    fused, _ = run(aside, "fuse", voxel_mm=2.0)
    whole, _ = run(lump, "fuse", voxel_mm=2.0)
    # The surface may run on by about a voxel where it was cut.
    assert not in_horn(fused.mesh.vertices, -3.0).any() and in_horn(whole.mesh.vertices, -3.0).any()
    points, _ = run(aside, "gather_points", spacing_mm=2.0)
    assert not in_horn(points.points.points, -2.0).any()
    view = pass_view(aside.passes[0])
    assert (
        np.array_equal(view.aside == 1, in_horn(view.cloud.points))
        or (view.aside == in_horn(view.cloud.points)).mean() > 0.97
    )
    # It outlasts a snapshot and the file that the viewer reads.
    store = ArrayStore(tmp_path)
    again = load_state(json.loads(json.dumps(save_state(aside, store))), store, lambda key: lump.passes[0])
    assert np.array_equal(again.passes[0].scaffold, aside.passes[0].scaffold)
    assert np.array_equal(PassView.unpacked(view.packed()).aside, view.aside)
    back, report = run(aside, "bring_back")
    assert (
        back.passes[0].scaffold is None and report["passes"][0]["points_after"] > report["passes"][0]["points_before"]
    )


def test_the_preview_counts_what_the_step_takes(lump: ScanState) -> None:
    lasso = ScreenStroke("lasso", ((150, 60), (260, 60), (270, 200), (140, 190)), FRONT)
    for strokes in ((HORN,), (lasso,), (lasso, HORN, replace(lasso, through=True, add=False))):
        preview = shown(lump, "take_away", marks=as_json(*strokes))
        _, report = run(lump, "keep_only", marks=as_json(*strokes))
        share = preview.figures["marked"] / preview.figures["points"]
        told = report["passes"][0]
        assert share == pytest.approx(told["marked"] / told["points_before"], abs=0.01) and share > 0.004
        (layer,) = preview.layers
        flags = np.unpackbits(layer.arrays["flags"], bitorder="little", count=len(pass_view(lump.passes[0])))
        assert layer.facts["digest"] == pass_view(lump.passes[0]).digest and 0 < flags.sum() < len(flags)


def test_marks_mean_the_same_region_on_other_data(lump: ScanState) -> None:
    """Drawn over one sampling and replayed over another, after a step before it changed, they find the same region."""
    views = ring_of_views(8, 150.0, (30.0, -15.0), (0, 0, 24))
    finer = rendered_state(knot_field, views, Camera.centred(240, 180, 390.0))
    cut, _ = run(finer, "stand_cut", planes={"rendered": [0, 0, 1, 3]})
    lasso = ScreenStroke("lasso", ((150, 60), (260, 60), (270, 200), (140, 190)), FRONT)
    at, _ = found(lump, Marks())
    high = at[:, 2] > 6.0
    # What is only seen ends at rims, which so coarse a capture knows to about a pixel of half a millimetre.
    for strokes, same in (((HORN, replace(lasso, through=True)), 0.995), ((lasso,), 0.98)):
        first = found(lump, Marks(strokes))[1]
        assert 0.02 < first.mean() < 0.8
        for state in (finer, cut):
            places, marked = found(state, Marks(strokes))
            assert (marked[cKDTree(places).query(at)[1]] == first)[high].mean() > same


def found(state: ScanState, marks: Marks) -> tuple[np.ndarray, np.ndarray]:
    """All kept measurements (n, 3), and which are marked."""
    marking, told = shown_points(state, [0]).marking(marks), []

    def ask(at: np.ndarray, normals: np.ndarray) -> np.ndarray:
        told.append((at, marking.marked(at, normals)))
        return told[-1][1]

    pixels_where(state.passes[0], ask, "", silent)
    return np.concatenate([a for a, _ in told]), np.concatenate([m for _, m in told])


def test_what_cannot_be_done_with_marks_is_said(lump: ScanState) -> None:
    for name in ("take_away", "keep_only", "set_aside"):
        with pytest.raises(StepNotPossible, match="Nothing is marked of “rendered”"):
            run(lump, name, marks=as_json(BallStroke(((500.0, 0.0, 0.0),), 5.0)))
        with pytest.raises(ParameterError, match="no pass “other”"):
            run(lump, name, marks=as_json(HORN), passes=["other"])
    with pytest.raises(ParameterError, match="Nothing would be left of “rendered”"):
        run(lump, "take_away", marks=as_json(invert=True))
    two = replace(lump, passes=(lump.passes[0], replace(lump.passes[0], title="away", T_object_pass=moved(400.0))))
    with pytest.raises(ParameterError, match="Nothing is marked of “away”"):
        run(two, "keep_only", marks=as_json(HORN))


def moved(x: float) -> np.ndarray:
    out = np.eye(4)
    out[0, 3] = x
    return out


def test_cells_part_what_lies_farther_apart_and_areas_add_up() -> None:
    plane = grid_plane(120, 80, 0.5).vertices.astype(np.float64)
    two = np.concatenate([plane, plane + [0, 0, 5.0]])
    apart, together = Cells(two, 2.0), Cells(two, 6.0)
    assert apart.pieces == 2 and together.pieces == 1
    assert len(set(apart.piece_of(plane))) == 1 and apart.piece_of(plane)[0] != apart.piece_of(plane + [0, 0, 5.0])[0]
    assert apart.cell_of(np.array([[0, 0, 90.0]]))[0] == -1 and Cells(np.zeros((0, 3)), 1.0).pieces == 0
    # By hand: the plane has 9 600 mm², the ball 4 π r²; what two passes saw counts once.
    for points, area in ((plane, 9600.0), (uv_ball(), 4 * np.pi * 400)):
        assert shared_areas([points], 2.0).sum() == pytest.approx(area, rel=0.06)
        assert shared_areas([points, points + 0.01], 2.0).sum() == pytest.approx(area, rel=0.08)
    assert shared_areas([plane, plane + [0, 0, 50.0]], 2.0).sum() == pytest.approx(2 * 9600, rel=0.06)


def uv_ball() -> np.ndarray:
    """Even points on a ball of 20 mm: Fibonacci's spiral."""
    n = np.arange(40_000) + 0.5
    z, turn = 1 - 2 * n / 40_000, np.pi * (1 + 5**0.5) * n
    return 20 * np.column_stack([np.sqrt(1 - z**2) * np.cos(turn), np.sqrt(1 - z**2) * np.sin(turn), z])


def dusty(p: np.ndarray) -> np.ndarray:
    """The lump with a crumb beside it, one under it, and a rod that lies well off."""
    d = np.minimum(knot_field(p), sphere(p, (0, 40, 40), 1.5))
    return np.minimum(np.minimum(d, sphere(p, (34, -20, 10), 1.2)), box(p, (0, -48, 24), (12, 2, 2), 0.5))


def test_loose_pieces_go_but_those_that_are_wanted() -> None:
    state = rendered_state(dusty, ring_of_views(8, 170.0, (30.0, -15.0), (0, 0, 24)), CAMERA)
    preview = shown(state, "loose_pieces", least_percent=20)
    less, report = run(state, "loose_pieces", least_percent=20)
    left = places(less)
    off = np.abs(knot_field(left))
    assert off.max() < 1.0 and report["pieces_gone"] >= 3 and report["pieces"] == preview.figures["pieces"]
    true = places(state)
    lost = (np.abs(knot_field(true)) < 0.1).sum() - (off < 0.1).sum()
    assert abs(lost) < 1e-4 * len(true), "nothing of the object may go"
    gone = report["points_before"] - report["points_after"]
    told = preview.figures["points_before"] - preview.figures["points_after"]
    assert abs(gone / report["points_before"] - told / preview.figures["points_before"]) < 0.005
    largest = [p["stays"] for p in report["largest"]]
    assert largest[0] and not any(largest[1:]) and report["largest"][0]["area_cm2"] > 60
    rod, _ = run(state, "loose_pieces", least_percent=20, keep=[[0, -46, 24]])
    assert (places(rod)[:, 1] < -40).any() and not (places(rod)[:, 1] > 37).any()
    all_of_it, report = run(state, "loose_pieces", least_percent=0)
    assert report["pieces_gone"] == 0 and len(places(all_of_it)) == len(true)
    bare, report = run(ScanState((replace(state.passes[0], placed=False),)), "loose_pieces", least_percent=20)
    assert len(places(bare)) == len(left), "a pass that is not placed is cleaned by itself"


def test_rims_are_counted_from_holes_and_from_steps() -> None:
    depth = np.full((40, 60), 200.0, np.float32)
    depth[:, 30:] = 150.0
    depth[18:22, 8:12] = 0
    off = pixels_off_rim(depth_map(depth, Camera.centred(60, 40, 100.0)))
    # By hand: chessboard distances to the hole, or to the step between the columns 29 and 30; the picture's edge is none.
    v, u = np.mgrid[0:40, 0:60]
    hole = np.maximum(np.maximum(18 - v, v - 21), np.maximum(8 - u, u - 11))
    step = np.where(u < 30, 30 - u, u - 29)
    expected = np.where((hole <= 0), 0, np.minimum(hole, step))
    assert np.array_equal(off, expected)


def test_borders_are_trimmed_off_frames_and_off_points(lump: ScanState, tmp_path: Path) -> None:
    less, report = run(lump, "trim_borders", pixels=3, spare=False)
    scan, cut = lump.passes[0], less.passes[0]
    for index in (0, 5):
        off = pixels_off_rim(frame_map(scan, index))
        kept = frame_map(cut, index).confidence > 0
        assert not (kept & (off <= 3)).any() and np.array_equal(
            kept, (frame_map(scan, index).confidence > 0) & (off > 3)
        )
    preview = shown(lump, "trim_borders", pixels=3, spare=False)
    share = lambda f: f["points_after"] / f["points_before"]  # noqa: E731
    assert share(preview.figures) == pytest.approx(share(report), abs=0.002) and 0.5 < share(report) < 0.95
    plane = grid_plane(40, 30, 0.5)
    points = cloud_pass(
        PointCloud(plane.vertices, np.broadcast_to(np.float32([0, 0, 1]), plane.vertices.shape)), tmp_path / "p"
    )
    less, report = run(ScanState((points,)), "trim_borders", pixels=4)
    left = places(less)
    # Four spacings of half a millimetre: a frame of 2 mm, within half a spacing.
    margin = np.minimum(np.minimum(left[:, 0], 40 - left[:, 0]), np.minimum(left[:, 1], 30 - left[:, 1]))
    assert margin.min() == pytest.approx(2.0, abs=0.26) and report["points_after"] == len(left)
    with pytest.raises(ParameterError, match="leave nothing of"):
        run(lump, "trim_borders", pixels=30, spare=False)


class Torn(Rendered):
    """Frames with single blunders that float before the surface."""

    def __init__(self, *given, **more) -> None:
        super().__init__(*given, **more)
        rng = np.random.default_rng(3)
        for image in self.images:
            hit = np.argwhere(image > 0)
            some = hit[rng.choice(len(hit), 6, replace=False)]
            for v, u in some:
                part = image[v : v + 9, u : u + 9]
                part[part > 0] = image[v, u] - 12


def test_fuzz_is_shown_before_it_goes() -> None:
    state = rendered_state(knot_field, ring_of_views(8, 150.0, (30.0, -15.0), (0, 0, 24)), CAMERA, source=Torn)
    preview = shown(state, "trim_fuzz")
    after, report = run(state, "trim_fuzz")
    gone = lambda f: f["points_before"] - f["points_after"]  # noqa: E731
    assert gone(report) > 300 and preview.figures["margin_mm"] == report["margin_mm"]
    view = pass_view(state.passes[0])
    flags = np.unpackbits(preview.layers[0].arrays["flags"], bitorder="little", count=len(view)).astype(bool)
    off = np.abs(knot_field(view.cloud.points))
    assert (off[flags] > 1.0).mean() > 0.9 and 0.5 < gone(preview.figures) / gone(report) < 1.5


def test_borders_that_other_frames_saw_too_stay_and_torn_ones_go() -> None:
    state = rendered_state(knot_field, ring_of_views(8, 150.0, (30.0, -15.0), (0, 0, 24)), CAMERA, source=Torn)

    def counts(scan_state: ScanState) -> np.ndarray:
        """True and torn points that are kept: nearer than 0.3 mm to the surface, and farther off than 1 mm."""
        off = np.abs(knot_field(places(scan_state)))
        return np.array([(off < 0.3).sum(), (off > 1.0).sum()])

    before = counts(state)
    bare, spared = (counts(run(state, "trim_borders", pixels=5, spare=spare)[0]) for spare in (False, True))
    assert before[1] > 300 and bare[1] < 0.02 * before[1] and spared[1] < 0.02 * before[1]
    lost = 1 - np.array([bare[0], spared[0]]) / before[0]
    assert lost[0] > 0.1 and lost[1] < 0.2 * lost[0]
    preview = shown(state, "trim_borders", pixels=5)
    _, report = run(state, "trim_borders", pixels=5)
    gone = lambda f: f["points_before"] - f["points_after"]  # noqa: E731
    assert gone(preview.figures) == pytest.approx(gone(report), rel=0.5)


MIDDLE = (0.0, 0.0, 17.5)
BUMPS = ((22, 6, 4.0), (-14, 20, 5.0), (-20, -12, 3.5), (8, -24, 4.5), (26, -16, 3.0))


def ball_on_tray(p: np.ndarray) -> np.ndarray:
    """A smooth ball over a tray whose relief has no side like another."""
    tray = box(p, (0, 0, -2), (36, 32, 2), 0.5)
    for x, y, r in BUMPS:
        tray = np.minimum(tray, sphere(p, (x, y, -0.4 * r), r))
    return np.minimum(tray, sphere(p, MIDDLE, 15.0))


def test_a_smooth_ball_is_placed_by_the_tray_that_is_set_aside_and_fused_without_it() -> None:
    coarse = Camera.centred(120, 90, 195.0)
    away = np.eye(4)
    away[:3, :3] = Rotation.from_rotvec([0.3, -0.5, 1.1]).as_matrix()
    away[:3, 3] = (30, -20, 12)
    passes = []
    for title, elevation, motion in (("low", 35.0, np.eye(4)), ("high", 55.0, away)):
        seen = rendered_state(ball_on_tray, ring_of_views(6, 170.0, (elevation,), (0, 0, 5)), coarse).passes[0]
        passes.append(replace(seen, title=title, frame_poses=motion @ seen.frame_poses, placed=False))
    state = ScanState(tuple(passes))
    alone, aside = state, state
    for title, motion in (("low", np.eye(4)), ("high", away)):
        ball = BallStroke((tuple(motion[:3, :3] @ MIDDLE + motion[:3, 3]),), 16.0)
        alone, _ = run(alone, "keep_only", marks=as_json(ball), passes=[title])
        aside, _ = run(aside, "set_aside", marks=as_json(ball, invert=True), passes=[title])
    alone, report = run(alone, "find_fit")
    assert report["not_placed"] == ["high"], "nothing on a smooth ball says how it lies"
    placed, report = run(aside, "find_fit")
    assert report["not_placed"] == []
    turned, shifted = difference(placed.passes[1].T_object_pass @ away, np.eye(4))
    assert turned < 0.3 and shifted < 0.3
    fused, _ = run(placed, "fuse", voxel_mm=1.5)
    off = np.linalg.norm(fused.mesh.vertices - MIDDLE, axis=1)
    # What lies within the mark's 16 mm is kept, and the surface may run on by two voxels where it was cut.
    assert off.max() < 16 + 2 * 1.5 and abs(np.median(off) - 15.0) < 0.1, "the tray is in the surface"
