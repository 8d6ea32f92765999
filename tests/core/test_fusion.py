"""Depth maps and fusion against analytic fields, colour against IEC 61966-2-1."""

from dataclasses import replace

import numpy as np
import pytest

from lucid_relic.fusion.closing import close_field
from lucid_relic.fusion.polygonise import polygonise_closed, polygonise_open
from lucid_relic.fusion.tsdf import fuse_volume
from lucid_relic.geometry.depth_map import depth_map
from lucid_relic.inspection.mesh_check import check_mesh
from lucid_relic.light.srgb import to_linear, to_srgb
from lucid_relic.progress import silent
from lucid_relic.types import Camera, Part, PassState, ScanState

CAMERA = Camera.centred(160, 120, 200.0)


class Still:
    """A source that shows the same analytic depth from every pose."""

    key = "still"

    def __init__(self, depth: np.ndarray) -> None:
        self.image = depth.astype(np.float32)

    def depth(self, index: int, part: Part | None = None) -> np.ndarray:
        return self.image if part is None else self.image[part]

    def colour(self, index: int, part: Part | None = None) -> None:
        return None


class Restless(Still):
    """A still with noise of its own in every frame."""

    def __init__(self, depth: np.ndarray, noise_mm: float) -> None:
        super().__init__(depth)
        self.noise_mm = noise_mm

    def depth(self, index: int, part: Part | None = None) -> np.ndarray:
        noise = np.random.default_rng(index).normal(size=self.image.shape) * self.noise_mm
        return (self.image + noise).astype(np.float32)[part or ...]


def plane_depth(normal: np.ndarray, offset: float) -> np.ndarray:
    rays = np.concatenate([CAMERA.rays, np.ones((120, 160, 1))], axis=2)
    return offset / (rays @ normal)


def seen_by(source: Still, poses: np.ndarray) -> ScanState:
    n = len(poses)
    scan = PassState("still", source, CAMERA, poses, np.ones(n, bool), np.zeros(n, np.float32), True, placed=True)
    return ScanState((scan,))


def test_normals_of_a_slanted_plane_are_exact() -> None:
    normal = np.array([0.5, -0.2, 0.842615])
    surface = depth_map(plane_depth(normal, 200.0), CAMERA)
    inside = surface.confidence > 0
    assert inside.mean() > 0.9
    assert np.allclose(surface.normals[inside], -normal / np.linalg.norm(normal), atol=2e-3)


def test_torn_and_grazing_pixels_are_left_out() -> None:
    depth = np.full((120, 160), 200.0, np.float32)
    depth[:, 80:] = 260.0
    depth[:, 80] = 230.0
    surface = depth_map(depth, CAMERA)
    assert not surface.confidence[:, 79:82].any() and surface.confidence[60, 40] > 0.9
    steep = np.array([np.sin(np.radians(80)), 0, np.cos(np.radians(80))])
    assert depth_map(plane_depth(steep, 60.0), CAMERA).confidence[60, 80] == 0


def test_fused_plane_matches_its_analytic_field() -> None:
    # The signed distance of a plane is linear: d(p) = offset - n·p on the camera's side.
    normal = np.array([0.3, 0.1, 0.948683])
    state = seen_by(Still(plane_depth(normal, 150.0)), np.eye(4)[None])
    volume = fuse_volume(state, 1.0, silent)
    local = np.stack(np.meshgrid(*[np.arange(8)] * 3, indexing="ij"), -1).reshape(-1, 3)
    points = (volume.coords[:, None, :] * 8 + local[None]) * 1.0
    expected = (150.0 - points @ normal) / volume.truncation_mm
    near = (volume.weight > 0) & (np.abs(expected) < 0.6)
    assert near.sum() > 2000
    assert np.abs(volume.distance - expected)[near].max() < 0.02
    mesh = polygonise_open(volume)
    assert np.abs(mesh.vertices @ normal - 150.0).max() < 0.05 and not mesh.made_up.any()


def test_noise_wider_than_the_reach_behind_a_surface_does_not_draw_it_outwards() -> None:
    # Cut off 1.1 voxels behind, noise of 0.8 voxels would lose what lies deep and keep what lies in front.
    normal = np.array([0.7, 0.0, 0.7141428])
    state = seen_by(Restless(plane_depth(normal, 150.0), 0.8), np.eye(4)[None].repeat(24, axis=0))
    scan = replace(state.passes[0], noise_mm=0.8)
    mesh = polygonise_open(fuse_volume(ScanState((scan,)), 1.0, silent))
    off = mesh.vertices @ normal - 150.0
    assert abs(off.mean()) < 0.03 and np.abs(off).mean() < 0.1


def test_half_a_sphere_is_closed_and_the_back_is_made_up() -> None:
    rays = np.concatenate([CAMERA.rays, np.ones((120, 160, 1))], axis=2)
    unit = rays / np.linalg.norm(rays, axis=2, keepdims=True)
    b = unit[..., 2] * 150.0
    inside = b**2 - (150.0**2 - 30.0**2)
    z = np.where(inside > 0, (b - np.sqrt(np.maximum(inside, 0))) * unit[..., 2], 0)
    state = seen_by(Still(z), np.eye(4)[None])
    volume = fuse_volume(state, 1.0, silent)
    mesh = polygonise_closed(close_field(state, volume, silent), volume)
    report = check_mesh(mesh)
    assert report.watertight and report.edge_manifold and report.vertex_manifold and report.self_intersections == 0
    seen = mesh.vertices[np.unique(mesh.faces[~mesh.made_up])]
    off = np.abs(np.linalg.norm(seen - [0, 0, 150], axis=1) - 30)
    assert off.mean() < 0.05 and 0.2 < mesh.made_up_area_fraction() < 0.7


@pytest.mark.parametrize(
    ("code", "linear"), [(0, 0.0), (10, 0.0030353), (128, 0.2158605), (188, 0.5028865), (255, 1.0)]
)
def test_srgb_transfer_follows_iec_61966_2_1(code: int, linear: float) -> None:
    # IEC 61966-2-1:1999: c/12.92 below 0.04045, else ((c + 0.055)/1.055)^2.4; values computed by that formula.
    value = to_linear(np.array([code], np.uint8))
    assert value[0] == pytest.approx(linear, abs=2e-6)
    assert to_srgb(value)[0] == code
