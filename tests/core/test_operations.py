"""What the operations make of their parameters, on small meshes and fields with known answers."""

from dataclasses import replace

import numpy as np
import pytest
from scenes import grid_plane, joined, knot_field, rendered_state, ring_of_views, uv_sphere
from scipy.spatial import cKDTree

from lucid_relic.errors import StepNotPossible
from lucid_relic.fusion.consolidate import consolidated
from lucid_relic.geometry.depth_map import depth_map
from lucid_relic.geometry.rigid import transform_points
from lucid_relic.geometry.spacing import pixel_spacing
from lucid_relic.operations import get_operation
from lucid_relic.progress import silent
from lucid_relic.types import Camera, ScanState, TriangleMesh

CAMERA = Camera.centred(160, 120, 260.0)


def run(state: ScanState, name: str, **parameters) -> tuple[ScanState, dict]:
    step = get_operation(name)
    return step.run(state, step.parameters(**parameters), silent)


@pytest.fixture(scope="module")
def ball() -> ScanState:
    return ScanState((), mesh=uv_sphere(20.0, 48, 96))


@pytest.fixture(scope="module")
def views() -> ScanState:
    return rendered_state(knot_field, ring_of_views(8, 150.0, (30.0, -15.0), (0, 0, 24)), CAMERA)


def moved(mesh: TriangleMesh, x: float) -> TriangleMesh:
    return replace(mesh, vertices=mesh.vertices + np.array([x, 0, 0], np.float32))


@pytest.mark.parametrize(
    ("parameters", "most"),
    [
        ({"triangles": 2000}, 2000),
        ({"share": 0.25}, 0.25 * 9024),
        ({"triangles": 4000, "share": 0.1}, 0.1 * 9024),
        ({"triangles": 500, "share": 0.9}, 500),
    ],
)
def test_simplify_goes_by_the_stricter_of_count_and_share(ball: ScanState, parameters: dict, most: float) -> None:
    state, report = run(ball, "simplify", **parameters)
    assert report["triangles_before"] == len(ball.mesh.faces) == 9024
    assert most - 3 <= len(state.mesh.faces) == report["triangles"] <= most
    # Evenly inscribed in a ball, n triangles lack about 7.4 / n of its volume (icospheres; worked out by hand).
    assert state.mesh.volume_mm3() == pytest.approx(ball.mesh.volume_mm3(), rel=7.4 / most)


def test_simplify_by_deviation_stops_at_it_or_at_a_share(ball: ScanState) -> None:
    fine, report = run(ball, "simplify", deviation_mm=0.05)
    assert 0.02 < report["hausdorff_mm"] <= 0.05
    coarse, wider = run(ball, "simplify", deviation_mm=0.5)
    assert 0.2 < wider["hausdorff_mm"] <= 0.5 and len(coarse.mesh.faces) < len(fine.mesh.faces) / 3
    held, _ = run(ball, "simplify", deviation_mm=0.5, share=0.5)
    assert len(held.mesh.faces) == pytest.approx(4512, abs=3)


def test_a_mesh_with_fewer_triangles_than_asked_for_stays(ball: ScanState) -> None:
    state, report = run(ball, "simplify", triangles=50_000)
    assert report["triangles"] == 9024 and report["hausdorff_mm"] == 0.0
    assert np.array_equal(state.mesh.vertices, ball.mesh.vertices)


def test_evening_out_keeps_the_count_when_no_length_is_given(ball: ScanState) -> None:
    state, report = run(ball, "remesh")
    assert report["triangles"] == pytest.approx(9024, rel=0.15)
    area = np.linalg.norm(state.mesh.face_normals(), axis=1) / 2
    was = np.linalg.norm(ball.mesh.face_normals(), axis=1) / 2
    assert area.std() / area.mean() < 0.35 < was.std() / was.mean()
    # An equilateral triangle of that edge has the mean area.
    assert report["edge_mm"] == pytest.approx(np.sqrt(was.mean() * 4 / np.sqrt(3)), rel=1e-6)


def test_the_largest_piece_stays_or_all_over_a_size() -> None:
    parts = joined(uv_sphere(20.0), moved(uv_sphere(6.0), 50), moved(uv_sphere(1.0), 80))
    state = ScanState((), mesh=parts)
    largest, report = run(state, "largest_piece")
    assert report["pieces_dropped"] == 2 and np.ptp(largest.mesh.vertices[:, 0]) == pytest.approx(40, abs=0.1)
    two, report = run(state, "largest_piece", over_mm=5.0)
    assert report["pieces_dropped"] == 1 and np.ptp(two.mesh.vertices[:, 0]) == pytest.approx(76, abs=0.1)
    with pytest.raises(StepNotPossible, match="No piece is 100 mm large"):
        run(state, "largest_piece", over_mm=100.0)


@pytest.mark.parametrize(
    "name", ["simplify", "remesh", "lay_colour", "largest_piece", "close", "fuse", "gather_points"]
)
def test_what_has_nothing_to_work_on_says_what_to_do_first(name: str) -> None:
    with pytest.raises(StepNotPossible, match=r"first\.$"):
        run(ScanState(()), name)


def test_the_voxel_size_is_the_spacing_of_the_pixels_unless_given(views: ScanState) -> None:
    spacing = pixel_spacing(views.passes[0])
    surface = depth_map(views.passes[0].source.depth(8), CAMERA)
    assert spacing == pytest.approx(np.median(surface.depth[surface.confidence > 0]) / 260.0)
    _, own = run(views, "fuse")
    _, draft = run(views, "fuse", character="draft")
    assert own["voxel_mm"] == pytest.approx(spacing, abs=5e-4)
    assert draft["voxel_mm"] == pytest.approx(2.5 * spacing, abs=2e-3)


def test_a_number_of_triangles_asks_for_a_coarser_voxel_and_tells_what_that_gives_up(views: ScanState) -> None:
    spacing = pixel_spacing(views.passes[0])
    _, all_of_it = run(views, "fuse")
    wanted = all_of_it["triangles"] // 6
    _, some = run(views, "fuse", triangles=wanted)
    assert spacing < some["voxel_mm"] < 2 * spacing and some["spacing_mm"] == all_of_it["voxel_mm"]
    assert 2.0 * wanted < some["triangles"] < 4.5 * wanted, "about three times what is wanted is left to choose from"
    assert 0 < some["points_within_mm"] < 0.2 * spacing
    _, few = run(views, "fuse", triangles=4)
    assert few["voxel_mm"] == pytest.approx(2 * spacing, abs=2e-3), "never coarser than two pixels"
    _, many = run(views, "fuse", triangles=10 * all_of_it["triangles"])
    assert many["voxel_mm"] == all_of_it["voxel_mm"]
    _, given = run(views, "fuse", triangles=4, voxel_mm=1.5)
    assert given["voxel_mm"] == 1.5 and "points_within_mm" not in given


def test_gathered_points_are_weighted_means_by_cell_and_side(views: ScanState) -> None:
    spacing, least = 2.0, 2e-5
    # Off the grid: the lump's flat foot would lie on a border of cells, where the last bit of a depth decides.
    aside = np.eye(4)
    aside[:3, 3] = [0.317, 0.211, 0.173]
    scan = replace(views.passes[0], T_object_pass=aside)
    cloud = consolidated(ScanState((scan,)), spacing, 2, silent)
    sums, unsure = {}, set()
    for index in range(scan.frame_count):
        surface = depth_map(scan.source.depth(index), CAMERA, edge_keeping=True)
        mask, pose = surface.confidence > 0, scan.T_object_camera(index)
        points = transform_points(pose, surface.points(mask, surface.unshrunk()).astype(float))
        normals = surface.normals[mask] @ pose[:3, :3].T
        ordered = np.sort(np.abs(normals), axis=1)
        side = np.take_along_axis(normals, np.abs(normals).argmax(axis=1)[:, None], 1)[:, 0] > 0
        cells = np.column_stack([np.floor(points / spacing).astype(int), side])
        # A point this near to a border, or with two strongest directions, may fall on either side of it.
        near = np.abs(points / spacing - np.round(points / spacing)) < least
        for column in range(3):
            for step in (-1, 0, 1):
                beside = cells[near[:, column]]
                beside[:, column] += step
                unsure |= set(map(tuple, beside))
        tied = cells[ordered[:, 2] - ordered[:, 1] < least]
        unsure |= {(*cell[:3], flag) for cell in map(tuple, tied) for flag in (0, 1)}
        for cell in np.unique(cells, axis=0):
            own = (cells == cell).all(axis=1)
            weight = surface.confidence[mask][own]
            total = sums.setdefault(tuple(cell), [0.0, np.zeros(3), 0])
            total[0] += weight.sum()
            total[1] = total[1] + weight @ points[own]
            total[2] += 1
    sure = np.array([t[1] / t[0] for cell, t in sums.items() if t[2] >= 2 and cell not in unsure])
    count = sum(t[2] >= 2 for t in sums.values())
    assert abs(len(cloud) - count) <= len(unsure) and len(sure) > 300 > len(unsure) / 4
    away, which = cKDTree(cloud.points).query(sure)
    assert away.max() < 2e-4 and len(np.unique(which)) == len(sure)


def test_points_that_few_frames_saw_are_left_out(views: ScanState) -> None:
    few, many = (run(views, "gather_points", least_frames=n, spacing_mm=2.0)[1]["points"] for n in (1, 5))
    assert few > 1.2 * many > 0
    with pytest.raises(StepNotPossible, match="Ask for fewer"):
        run(views, "gather_points", least_frames=100, spacing_mm=2.0)


def test_a_flat_sheet_simplifies_to_its_outline() -> None:
    state, report = run(ScanState((), mesh=grid_plane(40, 30, 1)), "simplify", deviation_mm=0.01)
    assert len(state.mesh.faces) < 40 and report["hausdorff_mm"] <= 0.01
    assert state.mesh.area_mm2() == pytest.approx(1200, abs=0.01)
