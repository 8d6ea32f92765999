"""Standing up and trimming: objects of known stance, specks that others looked through."""

from dataclasses import replace

import numpy as np
import pytest
from scenes import rendered_state, ring_of_views
from scipy.spatial.transform import Rotation

from lucid_relic.cleaning.fuzz import trimmed_masks
from lucid_relic.cleaning.witnesses import WITNESSES, others_of
from lucid_relic.demo.shapes import box, mesh_of, sphere
from lucid_relic.errors import StepNotPossible
from lucid_relic.geometry.rigid import from_rotvec, is_rigid, transform_points
from lucid_relic.operations import get_operation
from lucid_relic.placement.stand_up import standing_motion
from lucid_relic.progress import silent
from lucid_relic.types import Camera, ScanState, TriangleMesh

CAMERA = Camera.centred(160, 120, 320.0)
TILT = from_rotvec(np.array([0.5, -0.9, 0.3]), np.array([14.0, 60.0, -25.0]))


def drop(p: np.ndarray) -> np.ndarray:
    """A drop, 50 mm high, cut flat at its foot: round above, so that it stands one way only."""
    height = p[:, 2]
    radius = np.where(height < 15, 15.0, np.sqrt(np.maximum(15.0**2 - ((height - 15) * 15 / 35) ** 2, 0)))
    return np.maximum(np.maximum(np.hypot(p[:, 0], p[:, 1]) - radius, -height), height - 50)


def tilted_drop() -> TriangleMesh:
    mesh = mesh_of(drop, (-18, -18, -3), (18, 18, 53), 1.0)
    return replace(mesh, vertices=transform_points(TILT, mesh.vertices.astype(float)).astype(np.float32))


def test_an_object_stands_on_its_flattest_foot() -> None:
    mesh = tilted_drop()
    motion, by = standing_motion(ScanState(mesh=mesh))
    stands = transform_points(motion, mesh.vertices.astype(float))
    assert by == "foot" and is_rigid(motion)
    assert stands[:, 2].min() == pytest.approx(0, abs=1e-3) and np.ptp(stands[:, 2]) == pytest.approx(50, abs=0.5)
    assert np.allclose((stands.max(axis=0) + stands.min(axis=0))[:2] / 2, 0, atol=1e-3)
    assert np.linalg.norm(motion[:3, :3] @ TILT[:3, :3] @ [0, 0, 1] - [0, 0, 1]) < 0.02


def test_a_known_plate_says_which_way_is_up() -> None:
    state = rendered_state(lambda p: sphere(p, (0, 0, 0), 10.0), ring_of_views(1, 100.0, (20.0,), (0, 0, 0)), CAMERA)
    up = np.array([0.6, 0.0, 0.8])
    scan = replace(state.passes[0], plate=np.array([*up, -10.0]))
    motion, by = standing_motion(ScanState((scan,), mesh=tilted_drop()))
    assert by == "plate" and np.allclose(motion[:3, :3] @ up, [0, 0, 1], atol=1e-9)
    # The first frame looks towards +y.
    look = motion[:3, :3] @ scan.T_object_camera(0)[:3, 2]
    assert look[1] > 0.5 and look[0] == pytest.approx(0, abs=1e-9)


def test_nothing_to_stand_up_is_refused() -> None:
    with pytest.raises(StepNotPossible, match="Fuse first"):
        standing_motion(ScanState())


def test_specks_that_others_looked_through_go_and_the_surface_stays() -> None:
    state = rendered_state(
        lambda p: box(p, (0, 0, 0), (15, 15, 15)), ring_of_views(10, 120.0, (25.0, 55.0), (0, 0, 0)), CAMERA
    )
    scan = state.passes[0]
    image = scan.source.images[3]
    whole = int((image > 0).sum())
    rows, columns = np.nonzero(image)
    v, u = int(np.median(rows)), int(np.median(columns))
    speck = (slice(v - 3, v + 4), slice(u - 3, u + 4))
    scan.source.images[3][speck] = image[speck] - 6.0
    masks, before, after = trimmed_masks((scan,), 2.0, silent)
    trimmed = replace(scan, keep=masks[0])
    assert before > after > 0.9 * before
    assert not trimmed.keep_mask(3)[speck][2:-2, 2:-2].any()
    assert trimmed.keep_mask(3).sum() > 0.75 * whole
    others = [trimmed.keep_mask(i).sum() / (scan.source.images[i] > 0).sum() for i in range(20) if i != 3]
    assert min(others) > 0.75


def test_witnesses_are_other_frames_spread_over_all() -> None:
    assert np.array_equal(others_of(2, 5), [0, 1, 3, 4])
    many = others_of(40, 200)
    assert len(many) == WITNESSES and 40 not in many and np.diff(many).max() < 16 and many.max() == 199


def test_the_floor_is_shown_where_the_object_would_stand_and_a_tilted_one_is_stood_on() -> None:
    step, mesh = get_operation("stand_up"), tilted_drop()
    state = ScanState(mesh=mesh)
    told = step.preview(state, step.parameters(by="plane"))
    [layer] = told.layers
    after, report = step.run(state, step.parameters(by="plane"), silent)
    assert (told.figures["up_from"], told.figures["tilted_deg"]) == (report["up_from"], report["tilted_deg"])
    assert told.figures["size_mm"] == pytest.approx(report["size_mm"], abs=0.002)
    up, d = np.array(layer.facts["plane"][:3]), layer.facts["plane"][3]
    corners = layer.arrays["corners"].astype(float)
    assert np.allclose(corners @ up, d, atol=1e-3), "the square lies in the plane"
    height = mesh.vertices.astype(float) @ up - d
    assert height.min() == pytest.approx(0, abs=1e-3) and height.max() == pytest.approx(report["size_mm"][2], abs=1e-3)
    assert np.cross(corners[1] - corners[0], corners[3] - corners[0]) @ up > 0
    # Tilted by five degrees, the object leans by five degrees.
    side = (corners[1] - corners[0]) / np.linalg.norm(corners[1] - corners[0])
    leant = from_rotvec(np.radians(5) * side, np.zeros(3))[:3, :3] @ up
    stood, report = step.run(state, step.parameters(by="plane", plane=(*leant, 0.0)), silent)
    assert report["up_from"] == "plane"
    a, b = (s.mesh.vertices.astype(float) for s in (after, stood))
    a, b = a - a.mean(axis=0), b - b.mean(axis=0)
    turned = Rotation.align_vectors(b[::50], a[::50])[0]
    assert np.degrees(np.arccos(turned.as_matrix()[2, 2])) == pytest.approx(5, abs=0.01)
