"""Thin handles: pin-holes are closed, threads cut, what frames looked through or what holds parts together stays."""

import numpy as np
import pytest
import trimesh
from scenes import torus, uv_sphere
from scipy.ndimage import distance_transform_cdt, label

from lucid_relic.fusion.handles import _AROUND, DEEP_VOXELS, _deep_in, _groups, euler, without_thin_handles
from lucid_relic.inspection.mesh_check import check_mesh
from lucid_relic.types import TriangleMesh

SIZE = 44
X, Y, Z = np.meshgrid(*[np.arange(SIZE, dtype=np.float32)] * 3, indexing="ij")
NOTHING = np.zeros((SIZE,) * 3, bool)


def block(low: tuple[float, ...], high: tuple[float, ...]) -> np.ndarray:
    """Signed distance in voxels of a block, as a closed field holds it: up to 1.75 voxels."""
    q = np.maximum.reduce(
        [low[k] - g for k, g in enumerate((X, Y, Z))] + [g - high[k] for k, g in enumerate((X, Y, Z))]
    )
    return np.clip(q, -1.75, 1.75).astype(np.float32)


def handles(field: np.ndarray) -> int:
    """Handles of the inside, which has one piece and no bubble."""
    return 1 - euler(field < 0)


@pytest.mark.parametrize(
    ("make", "expected"),
    [
        (lambda: np.hypot(np.hypot(X - 20, Y - 20) - 12, Z - 20) < 5, 0),
        (lambda: np.sqrt((X - 20) ** 2 + (Y - 20) ** 2 + (Z - 20) ** 2) < 12, 1),
        (lambda: np.abs(np.sqrt((X - 20) ** 2 + (Y - 20) ** 2 + (Z - 20) ** 2) - 12) < 3, 2),
        (lambda: (np.abs(X - 10) < 4) | (np.abs(X - 30) < 4), 2),
    ],
    ids=["ring", "ball", "shell", "two slabs"],
)
def test_euler_characteristic_of_known_bodies(make, expected: int) -> None:
    # Of a solid torus 0, a ball 1, a shell 2, two pieces 2: any textbook of topology.
    assert euler(make()) == expected


def test_a_pin_hole_is_closed_unless_frames_looked_through_it() -> None:
    wall = block((6, 6, 18), (38, 38, 26))
    hole = block((21, 21, 0), (22.2, 22.2, 43))
    field = np.maximum(wall, -hole)
    assert handles(field) == 1
    mended = field.copy()
    assert without_thin_handles(mended, NOTHING, NOTHING, 1.0)[0] == 1 and handles(mended) == 0
    seen = field.copy()
    assert without_thin_handles(seen, NOTHING, hole < 0, 1.0) == (0, 0) and handles(seen) == 1


def test_a_wide_hole_stays() -> None:
    field = np.maximum(block((6, 6, 18), (38, 38, 26)), -block((17, 17, 0), (27, 27, 43)))
    before = field.copy()
    assert without_thin_handles(field, NOTHING, NOTHING, 1.0) == (0, 0) and np.array_equal(field, before)


def test_a_thread_across_a_gap_is_cut_and_a_thin_neck_is_not() -> None:
    u_shape = np.minimum(
        block((6, 10, 6), (38, 30, 14)), np.minimum(block((6, 10, 6), (14, 30, 38)), block((30, 10, 6), (38, 30, 38)))
    )
    thread = block((12, 20, 30), (32, 21.2, 31.2))
    field = np.minimum(u_shape, thread)
    assert handles(field) == 1
    assert without_thin_handles(field, NOTHING, NOTHING, 1.0)[1] == 1 and handles(field) == 0
    # The same thread as the only thing between two parts must hold them together.
    parts = np.minimum(np.minimum(block((6, 10, 6), (14, 30, 38)), block((30, 10, 6), (38, 30, 38))), thread)
    assert without_thin_handles(parts, NOTHING, NOTHING, 1.0) == (0, 0) and euler(parts < 0) == 1


def test_a_measured_thread_stays() -> None:
    u_shape = np.minimum(
        block((6, 10, 6), (38, 30, 14)), np.minimum(block((6, 10, 6), (14, 30, 38)), block((30, 10, 6), (38, 30, 38)))
    )
    field = np.minimum(u_shape, block((12, 20, 30), (32, 21.8, 31.8)))
    without_thin_handles(field, field < 1.0, NOTHING, 1.0)
    assert handles(field) == 1


@pytest.mark.parametrize(("mesh", "genus"), [(uv_sphere(10.0), 0), (torus(20.0, 6.0), 1)], ids=["ball", "ring"])
def test_the_report_counts_handles(mesh: TriangleMesh, genus: int) -> None:
    # Reference: trimesh's Euler number, 2 − 2 · genus.
    reference = trimesh.Trimesh(mesh.vertices, mesh.faces, process=False)
    assert check_mesh(mesh, crossings=False).genus == genus == 1 - reference.euler_number // 2
    opened = TriangleMesh(mesh.vertices, mesh.faces[1:])
    assert check_mesh(opened, crossings=False).genus is None


def test_what_is_sure_at_once_lies_deep_on_its_side() -> None:
    inside = (X - 20) ** 2 + (Y - 22) ** 2 + (Z - 21) ** 2 < 17**2
    for side in (inside, ~inside):
        deep = _deep_in(side)
        assert deep.shape == side.shape and deep.sum() > 500
        assert distance_transform_cdt(side)[deep].min() > DEEP_VOXELS


def test_groups_of_few_voxels_are_those_of_a_dense_labelling() -> None:
    # Independent reference: SciPy's label, with the neighbours of Kuhn's subdivision.
    rng = np.random.default_rng(5)
    mask = np.zeros((20, 24, 18), bool)
    mask[1:-1, 1:-1, 1:-1] = rng.random((18, 22, 16)) < 0.09
    numbers, count = label(mask, _AROUND)
    groups = _groups(mask)
    assert len(groups) == count > 50 and max(len(g) for g in groups) > 3
    assert all((numbers[tuple(g.T)] == k).all() for k, g in enumerate(groups, 1))
    assert sum(len(g) for g in groups) == mask.sum() and _groups(NOTHING) == []
