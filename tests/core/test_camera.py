"""The camera's lens against the formula as published, and its inverse."""

import numpy as np
import pytest

from lucid_relic.errors import InputError
from lucid_relic.geometry import _kernels
from lucid_relic.types import Camera

LENS = (-0.21, 0.08, 0.0012, -0.0009, -0.015)
CAMERA = Camera(640, 480, 820.0, 815.0, 316.5, 242.25, LENS)


def brown_conrady(camera: Camera, x: float, y: float) -> tuple[float, float]:
    """Pixel of a normalised point: Brown (1966), Conrady (1919), in the form of OpenCV's calib3d documentation."""
    k1, k2, p1, p2, k3 = camera.distortion
    r2 = x**2 + y**2
    radial = 1 + k1 * r2 + k2 * r2**2 + k3 * r2**3
    xd = x * radial + 2 * p1 * x * y + p2 * (r2 + 2 * x**2)
    yd = y * radial + p1 * (r2 + 2 * y**2) + 2 * p2 * x * y
    return camera.fx * xd + camera.cx, camera.fy * yd + camera.cy


def test_projection_follows_the_published_formula() -> None:
    points = np.random.default_rng(1).uniform([-90, -70, 250], [90, 70, 500], (200, 3))
    wanted = [brown_conrady(CAMERA, x / z, y / z) for x, y, z in points]
    assert np.allclose(CAMERA.project(points), wanted, atol=1e-9)
    compiled = [_kernels.project(CAMERA.as_vector, *p) for p in points]
    assert np.allclose(compiled, wanted, atol=1e-9)


def test_a_pixel_and_its_ray_belong_together() -> None:
    v, u = np.mgrid[0:480:37, 0:640:41]
    rays = CAMERA.rays[v, u].reshape(-1, 2).astype(float)
    points = np.column_stack([rays * 333.0, np.full(len(rays), 333.0)])
    assert np.abs(CAMERA.project(points) - np.column_stack([u.ravel(), v.ravel()])).max() < 2e-3


def test_the_middle_of_a_centred_camera_looks_straight_ahead() -> None:
    camera = Camera.centred(641, 481, 800.0)
    assert np.array_equal(camera.rays[240, 320], [0, 0])
    assert camera.rays[240, 321, 0] == pytest.approx(1 / 800)
    assert camera.half_rays.shape == (241, 321, 2) and np.array_equal(camera.half_rays[7, 9], camera.rays[14, 18])


@pytest.mark.parametrize(
    ("values", "says"),
    [
        ((4, 480, 800, 800, 2, 240), "8 to 16384"),
        ((640, 20000, 800, 800, 2, 240), "8 to 16384"),
        ((640, 480, 0, 800, 320, 240), "greater than 0"),
        ((640, 480, 800, float("nan"), 320, 240), "finite"),
        ((640, 480, 800, 800, 320, 240, (0.1, 0.2)), "5 numbers"),
    ],
)
def test_a_camera_that_cannot_be_is_refused(values: tuple, says: str) -> None:
    with pytest.raises(InputError, match=says):
        Camera(*values)
