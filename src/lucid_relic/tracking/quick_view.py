"""A frame as live tracking needs it: surface, thinned map, sample and fine light, in a few milliseconds."""

from dataclasses import dataclass

import cv2
import numpy as np

from lucid_relic.alignment import _kernels
from lucid_relic.alignment.views import STRIDE, FrameView
from lucid_relic.geometry.depth_map import DepthMap, depth_map
from lucid_relic.light.srgb import log_light
from lucid_relic.planning.grip import Grip, grip
from lucid_relic.types import Camera

SAMPLES = 1500
LEAST_CONFIDENCE = 0.05
SURROUNDINGS = 13  # thinned pixels a side of the square whose mean light is taken off
LOG_LIGHT = log_light(np.arange(256, dtype=np.uint8))
NOTHING = np.full((1, 1, 3), _kernels.NO_LIGHT, np.float32)


@dataclass(frozen=True)
class QuickFrame:
    """A frame made ready: its surface, its view for tracking, and its photograph (h, w, 3) uint8 if there is one."""

    index: int
    surface: DepthMap
    view: FrameView
    image: np.ndarray | None


def quick_frame(index: int, depth: np.ndarray, image: np.ndarray | None, camera: Camera) -> QuickFrame:
    """Make a frame ready: depth (h, w) float32 mm; the sample is drawn with its index as seed."""
    surface = depth_map(depth, camera)
    flat = surface.unshrunk()
    half = (slice(None, None, STRIDE), slice(None, None, STRIDE))
    v, u = np.nonzero(surface.confidence > LEAST_CONFIDENCE)
    rng = np.random.default_rng([index, 5])
    chosen = np.sort(rng.choice(len(v), min(SAMPLES, len(v)), replace=False))
    v, u = v[chosen], u[chosen]
    z = flat[v, u]
    rays = camera.rays[v, u]
    points = np.stack([rays[:, 0] * z, rays[:, 1] * z, z], axis=1)
    light = NOTHING
    point_light = np.full(len(v), _kernels.NO_LIGHT, np.float32)
    if image is not None:
        light = with_steps(thinned_light(image, surface.confidence > LEAST_CONFIDENCE))
        own = light[v // STRIDE, u // STRIDE]
        inside = own[:, 1] * (u % STRIDE / STRIDE) + own[:, 2] * (v % STRIDE / STRIDE)
        point_light = (own[:, 0] + inside).astype(np.float32)
    middle = float(np.median(z)) if len(z) else 0.0
    view = FrameView(
        cam=camera.as_vector, rays=camera.half_rays, fitted=np.ascontiguousarray(flat[half]),
        normals=np.ascontiguousarray(surface.normals[half]), confidence=np.ascontiguousarray(surface.confidence[half]),
        points=points, point_normals=surface.normals[v, u], weights=surface.confidence[v, u], light=light,
        point_light=point_light, noise_mm=surface.noise_mm, spacing_mm=middle / camera.fx,
    )  # fmt: skip
    return QuickFrame(index, surface, view, image)


def grip_of(view: FrameView, noise_spacings: float = np.inf) -> Grip:
    """How firmly what a frame sees holds it; its noise turns normals that are averaged over so many pixel spacings."""
    slant = view.noise_mm / (noise_spacings * max(view.spacing_mm, 1e-9))
    return grip(view.points, view.point_normals, view.weights, slant)


def thinned_light(image: np.ndarray, known: np.ndarray) -> np.ndarray:
    """Log light (h/2, w/2) float32 of the known pixels of an image, averaged over two by two; else NO_LIGHT."""
    grey = LOG_LIGHT[image].mean(axis=2)
    share = known.astype(np.float32)
    soft, some = (cv2.blur(m, (STRIDE, STRIDE)) for m in (grey * share, share))
    part = (slice(None, None, STRIDE), slice(None, None, STRIDE))
    some = some[part]
    return np.where(some > 0.5, soft[part] / np.maximum(some, 1e-6), np.float32(_kernels.NO_LIGHT)).astype(np.float32)


def with_steps(light: np.ndarray) -> np.ndarray:
    """Fine light (h, w, 3) of log light (h, w): less its surroundings, with its steps to the right and down."""
    known = (light > _kernels.NO_LIGHT).astype(np.float32)
    size = (SURROUNDINGS, SURROUNDINGS)
    around = cv2.blur(light * known, size) / np.maximum(cv2.blur(known, size), 1e-6)
    fine = light - around
    out = np.full((*light.shape, 3), _kernels.NO_LIGHT, np.float32)
    inner = (known[1:-1, 1:-1] * known[1:-1, 2:] * known[1:-1, :-2] * known[2:, 1:-1] * known[:-2, 1:-1]) > 0
    steps = [fine[1:-1, 1:-1], (fine[1:-1, 2:] - fine[1:-1, :-2]) / 2, (fine[2:, 1:-1] - fine[:-2, 1:-1]) / 2]
    out[1:-1, 1:-1][inner] = np.stack(steps, axis=2)[inner]
    return out
