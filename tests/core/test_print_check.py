"""Wall thickness against closed formulas, and the print check from fail to ready.

What a printer needs (walls of two lines, 45° of overhang, 300 000 triangles) is common practice.
"""

import json
from dataclasses import replace

import numpy as np
import pytest
import trimesh
from scenes import joined, uv_sphere

from lucid_relic.errors import ParameterError, StepNotPossible
from lucid_relic.inspection.findings import findings
from lucid_relic.inspection.print_check import PRINTERS, print_check
from lucid_relic.inspection.summary import summarise_state
from lucid_relic.inspection.thickness import wall_thickness
from lucid_relic.operations import get_operation
from lucid_relic.progress import silent
from lucid_relic.types import ScanState, TriangleMesh

LAID = PRINTERS["filament-0.4"]


def block(x: float, y: float, z: float, at: tuple[float, float, float] = (0, 0, 0)) -> TriangleMesh:
    """A box that stands on z = 0, moved."""
    made = trimesh.creation.box((x, y, z))
    return TriangleMesh((made.vertices + [*at[:2], at[2] + z / 2]).astype(np.float32), made.faces.astype(np.int32))


def shell(outer: float, inner: float) -> TriangleMesh:
    """A hollow ball."""
    hollow = uv_sphere(inner, 96, 192)
    return joined(uv_sphere(outer, 96, 192), TriangleMesh(hollow.vertices, hollow.faces[:, ::-1].copy()))


def wedge(angle_deg: float, length: float, width: float) -> TriangleMesh:
    """A wedge with its edge along y at the origin, its faces at half the angle over and under the x axis."""
    up = length * np.tan(np.radians(angle_deg / 2))
    corners = [(0, y, 0) for y in (0, width)] + [(length, y, z) for y in (0, width) for z in (-up, up)]
    hull = trimesh.convex.convex_hull(np.array(corners))
    return TriangleMesh(hull.vertices.astype(np.float32), hull.faces.astype(np.int32))


@pytest.mark.parametrize("thick", [0.4, 0.8, 2.0])
def test_a_plate_is_as_thick_as_it_is(thick: float) -> None:
    walls = wall_thickness(block(40, 40, thick), 4000)
    flat = np.abs(walls.normals[:, 2]) > 0.9
    inner = flat & (np.abs(walls.places[:, :2]).max(axis=1) < 20 - thick)
    assert walls.wall_mm[inner] == pytest.approx(thick, rel=0.02)
    assert walls.through_mm[flat] == pytest.approx(thick, rel=0.001)
    assert walls.area_mm2 * 4000 == pytest.approx(2 * 40 * 40 + 4 * 40 * thick, rel=1e-4)


def test_a_hollow_ball_is_as_thick_as_its_shell_from_outside_and_inside() -> None:
    walls = wall_thickness(shell(20.0, 18.8), 4000)
    outside = np.linalg.norm(walls.places, axis=1) > 19.4
    for side in (outside, ~outside):
        assert side.sum() > 1000 and walls.wall_mm[side] == pytest.approx(1.2, rel=0.02)


def test_a_wedge_thickens_as_its_angle_says() -> None:
    walls = wall_thickness(wedge(20.0, 30.0, 60.0), 6000)
    along = np.linalg.norm(walls.places[:, [0, 2]], axis=1)  # from the edge, on either face
    face = (np.abs(walls.normals[:, 2]) > 0.9) & (along > 2) & (along < 20)
    face &= np.abs(walls.places[:, 1] - 30) < 20
    # Half the diameter over the distance is the tangent of half the angle; straight through it is that of the whole.
    assert walls.wall_mm[face] == pytest.approx(2 * along[face] * np.tan(np.radians(10)), rel=0.02)
    assert walls.through_mm[face] == pytest.approx(along[face] * np.tan(np.radians(20)), rel=0.002)


def test_the_edges_of_a_cube_are_no_thin_walls() -> None:
    walls = wall_thickness(block(20, 20, 20), 4000)
    known = walls.wall_mm[np.isfinite(walls.wall_mm)]
    assert (
        (known > 19.0).all()
        and np.isnan(walls.wall_mm).mean() > 0.9
        and walls.through_mm == pytest.approx(20, rel=1e-3)
    )


def test_only_what_has_an_inside_has_walls() -> None:
    cube = block(10, 10, 10)
    with pytest.raises(StepNotPossible, match="closed surface"):
        wall_thickness(TriangleMesh(cube.vertices, cube.faces[:-1]))
    with pytest.raises(StepNotPossible, match="inside out"):
        wall_thickness(TriangleMesh(cube.vertices, cube.faces[:, ::-1].copy()))


def failing(mesh: TriangleMesh, printer=LAID) -> dict[str, str | None]:
    return {c.name: c.mend for c in print_check(mesh, printer, 4000).checks if not c.holds}


def test_a_sound_block_is_ready_and_each_fault_is_named_with_its_mend() -> None:
    cube = block(20, 20, 20)
    told = print_check(cube, LAID, 4000)
    assert told.ready and told.thin == () and told.thinnest_mm is None
    assert [c.name for c in told.checks] == [
        "closed", "manifold", "oriented", "crossings", "pieces", "size", "triangles", "walls", "foot", "overhangs",
    ]  # fmt: skip
    assert failing(TriangleMesh(cube.vertices, cube.faces[:-1])) == {"closed": "patch_holes", "walls": "patch_holes"}
    assert "oriented" in failing(TriangleMesh(cube.vertices, cube.faces[:, ::-1].copy()))
    assert failing(joined(cube, block(5, 5, 5, (40, 0, 0)))) == {"pieces": "largest_piece"}
    assert set(failing(joined(cube, block(8, 8, 8, (8, 0, 5))))) == {"crossings", "pieces"}
    assert failing(block(230, 20, 20)) == {"size": None} and failing(block(20, 220, 20)) == {}
    assert failing(block(130, 70, 20), PRINTERS["resin"]) == {} and failing(block(70, 130, 20), PRINTERS["resin"]) == {}
    assert failing(uv_sphere(10.0)) == {"foot": "flat_foot"}
    few = replace(LAID, most_triangles=10)
    assert failing(cube, few) == {"triangles": "simplify"}


def test_thin_walls_are_spots_with_a_place_and_overhangs_are_told() -> None:
    # A block with a thin leaf that stands on it.
    foot, leaf = trimesh.creation.box((30, 15, 20)), trimesh.creation.box((0.6, 15, 20.5))
    foot.apply_translation([15, 0, 10])
    leaf.apply_translation([20, 0, 29.75])
    made = trimesh.boolean.union([foot, leaf], engine="manifold")
    mesh = TriangleMesh(made.vertices.astype(np.float32), made.faces.astype(np.int32))
    told = print_check(mesh, LAID, 8000)
    [walls] = [c for c in told.checks if c.name == "walls"]
    assert not walls.holds and told.thin[0]["least_mm"] == pytest.approx(0.6, rel=0.03) and len(told.thin) == 1
    x, _, z = told.thin[0]["place"]
    assert 19.6 < x < 20.4 and z > 20 and told.thin[0]["area_mm2"] == pytest.approx(2 * 15 * 20, rel=0.15)
    assert not told.ready and "0.6" in walls.words
    mushroom = joined(block(10, 10, 10), block(30, 30, 5, (0, 0, 10.0)))
    [hangs] = [c for c in print_check(mushroom, LAID, 2000).checks if c.name == "overhangs"]
    assert hangs.holds and "9.0 cm²" in hangs.words and hangs.place[2] == pytest.approx(10, abs=1e-4)


def test_as_a_step_it_leaves_findings_as_long_as_the_mesh_is_the_same() -> None:
    step = get_operation("print_check")
    plate = block(40, 40, 0.5)
    state, report = step.run(ScanState((), mesh=plate), step.parameters(), silent)
    assert step.headline_of(report) == "1 fault" and not report["ready"] and state.mesh is plate
    thin = [f for f in findings(summarise_state(state)) if f["kind"] == "thin wall"]
    assert len(thin) == 1 and thin[0]["figure"] == "0.50 mm" and thin[0]["place"] is not None
    json.dumps(state.notes)
    thicker = replace(state, mesh=block(40, 40, 2.0))
    assert not [f for f in findings(summarise_state(thicker)) if f["kind"] == "thin wall"]
    again, report = step.run(state, step.parameters(printer="resin"), silent)
    assert step.headline_of(report) == "ready to print" and again.notes["walls"]["spots"] == []
    _, report = step.run(state, step.parameters(printer="resin", wall_mm=0.6), silent)
    assert step.headline_of(report) == "1 fault"
    with pytest.raises(ParameterError):
        step.parameters.from_dict({"printer": "spray"})
