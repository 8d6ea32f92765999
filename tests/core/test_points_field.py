"""Fusing oriented points: true shapes come back, borders end, thin walls and sharp edges survive, frames join in."""

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import trimesh
from scenes import cloud_pass, rendered_state, ring_of_views, uv_sphere
from scipy.spatial.transform import Rotation

from lucid_relic.demo.shapes import sphere
from lucid_relic.fusion.polygonise import polygonise_open
from lucid_relic.fusion.tsdf import fuse_volume
from lucid_relic.geometry.bvh import TriangleTree
from lucid_relic.geometry.rigid import from_rotvec
from lucid_relic.inspection.mesh_check import boundary_loops, check_mesh
from lucid_relic.mending.pieces import keep_over
from lucid_relic.progress import silent
from lucid_relic.types import Camera, PointCloud, ScanState, TriangleMesh

NOISE = 0.05


def scattered(mesh: TriangleMesh, count: int, noise: float, seed: int = 3) -> PointCloud:
    """Random points on a mesh with its normals, moved by noise."""
    rng = np.random.default_rng(seed)
    area = np.linalg.norm(mesh.face_normals(), axis=1)
    face = rng.choice(len(area), count, p=area / area.sum())
    share = rng.dirichlet((1, 1, 1), count)
    points = np.einsum("nk,nkj->nj", share, mesh.corners[face]) + rng.normal(0, noise, (count, 3))
    normals = mesh.face_normals()[face] / area[face][:, None]
    return PointCloud(points.astype(np.float32), normals.astype(np.float32))


def solid(shape: trimesh.Trimesh) -> TriangleMesh:
    """A shape of trimesh, turned so that nothing lies along the grid."""
    shape.apply_transform(trimesh.transformations.rotation_matrix(0.4, (1, 2, 3)))
    return TriangleMesh(np.asarray(shape.vertices, np.float32), np.asarray(shape.faces, np.int32))


def fused(cloud: PointCloud, voxel_mm: float, folder: Path, character: str = "even") -> TriangleMesh:
    state = ScanState((replace(cloud_pass(cloud, folder), placed=True, noise_mm=NOISE),))
    return polygonise_open(fuse_volume(state, voxel_mm, silent, character))


SHAPES = {
    "box": lambda: trimesh.creation.box((40, 30, 20)),
    "plate of two millimetres": lambda: trimesh.creation.box((40, 30, 2)),
    "cylinder": lambda: trimesh.creation.cylinder(10, 40, sections=96),
    "cone": lambda: trimesh.creation.cone(20, 20, sections=96),
}


@pytest.mark.parametrize("name", SHAPES)
def test_closed_shapes_come_back_closed_and_true(name: str, tmp_path: Path) -> None:
    mesh = solid(SHAPES[name]())
    whole = fused(scattered(mesh, 60_000, NOISE), 0.7, tmp_path / "p")
    found, _ = keep_over(whole, 2.0)  # a speck of one voxel beside the cone's edge of 45°
    away = TriangleTree(mesh).closest(found.vertices)[0]
    assert boundary_loops(whole.faces) == 0 and check_mesh(found).components == 1
    assert len(found.faces) > 0.999 * len(whole.faces)
    assert away.mean() < 0.02 and away.max() < 0.6  # noise 0.05 mm; an edge is blunted by less than a voxel
    assert found.volume_mm3() == pytest.approx(mesh.volume_mm3(), rel=0.01)


def test_a_bend_is_neither_pushed_in_nor_out(tmp_path: Path) -> None:
    """Points three millimetres apart on a ball of 20 mm: a plane through them lies 0.1 mm deep, theirs as much too high."""
    rng = np.random.default_rng(1)
    unit = rng.normal(size=(1200, 3))
    unit /= np.linalg.norm(unit, axis=1, keepdims=True)
    found = fused(PointCloud((20 * unit).astype(np.float32), unit.astype(np.float32)), 1.0, tmp_path / "p")
    radius = np.linalg.norm(found.vertices, axis=1)
    assert abs(radius.mean() - 20) < 0.03


def test_the_surface_ends_where_the_points_end(tmp_path: Path) -> None:
    rng = np.random.default_rng(1)
    flat = np.column_stack([rng.uniform(0, 30, 20_000), rng.uniform(0, 20, 20_000), np.zeros(20_000)])
    normals = np.tile(np.array([0, 0, 1], np.float32), (len(flat), 1))
    found = fused(PointCloud(flat.astype(np.float32), normals), 0.5, tmp_path / "p")
    low, high = found.vertices.min(axis=0), found.vertices.max(axis=0)
    assert boundary_loops(found.faces) == 1
    assert (low > [-1, -1, -0.05]).all() and (high < [31, 21, 0.05]).all()  # two voxels over the border at the most
    assert 600 < found.area_mm2() < 31 * 21 + 1  # a voxel more around, so that a sharp edge of a closed shape closes
    assert found.face_normals()[:, 2].min() > 0


def test_crisp_keeps_an_edge_better_than_even(tmp_path: Path) -> None:
    mesh = solid(trimesh.creation.box((30, 30, 30)))
    cloud = scattered(mesh, 40_000, 0.02)
    off = {}
    for character in ("even", "crisp"):
        found = fused(cloud, 0.7, tmp_path / character, character)
        off[character] = TriangleTree(mesh).closest(found.vertices)[0].mean()
    assert off["crisp"] <= off["even"]


def test_points_far_denser_than_the_voxel_are_averaged(tmp_path: Path) -> None:
    mesh = uv_sphere(15.0)
    dense = fused(scattered(mesh, 150_000, 0.2), 1.5, tmp_path / "dense")
    sparse = fused(scattered(mesh, 6_000, 0.2), 1.5, tmp_path / "sparse")
    error = [np.abs(np.linalg.norm(m.vertices, axis=1) - 15).mean() for m in (dense, sparse)]
    assert error[0] < 0.5 * error[1]


def test_the_less_noisy_source_counts_for_more(tmp_path: Path) -> None:
    """Frames of a ball of 20 mm and points that lie 0.4 mm outside of it: the result lies nearer to the better ones."""
    field = lambda p: sphere(p, (0, 0, 0), 20)  # noqa: E731
    views = ring_of_views(8, 250.0, (-35, 0, 35), (0, 0, 0))
    state = rendered_state(field, views, Camera.centred(160, 120, 220.0), 0.05)
    cloud = cloud_pass(scattered(uv_sphere(20.4, 60, 120), 20_000, 0.0), tmp_path / "p")
    radius = {}
    for name, noise in (("good points", 0.02), ("bad points", 0.4)):
        passes = (replace(state.passes[0], noise_mm=0.08), replace(cloud, placed=True, noise_mm=noise))
        mesh = polygonise_open(fuse_volume(ScanState(passes), 1.0, silent))
        radius[name] = float(np.linalg.norm(mesh.vertices, axis=1).mean())
    assert 20.2 < radius["good points"] < 20.45 and 19.9 < radius["bad points"] < 20.1


def test_a_moved_pass_is_fused_where_it_lies(tmp_path: Path) -> None:
    move = from_rotvec(np.array([0.3, -0.2, 0.5]), np.array([12.0, -7.0, 4.0]))
    scan = cloud_pass(scattered(uv_sphere(10.0), 8_000, 0.0), tmp_path / "p")
    state = ScanState((replace(scan, placed=True, T_object_pass=move),))
    mesh = polygonise_open(fuse_volume(state, 0.8, silent))
    assert np.allclose(mesh.vertices.mean(axis=0), [12, -7, 4], atol=0.05)
    assert Rotation.from_matrix(move[:3, :3]).magnitude() > 0.5
