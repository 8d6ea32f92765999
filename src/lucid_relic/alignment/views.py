"""What settle and find fit need of a frame: a thinned surface map and a sample of its points."""

from collections import OrderedDict
from dataclasses import dataclass

import numpy as np
from scipy.ndimage import gaussian_filter

from lucid_relic.alignment import _kernels
from lucid_relic.alignment.borders import NO_BORDERS, Borders, borders_of
from lucid_relic.alignment.marker_ties import held_by_nothing_else
from lucid_relic.geometry.depth_map import frame_map
from lucid_relic.light.srgb import log_light
from lucid_relic.types import PassState, PointCloud

# Points of a frame that are laid onto others: twice as many moved poses by less than a tenth of the noise.
SAMPLES = 1500
STRIDE = 2  # that of `Camera.half_rays`
DETAIL, SURROUNDINGS = 1.0, 12.0  # pixels
HELD_BYTES = 256 * 2**20  # of views held: about 200 frames of 640×480
CREASE_NOISES = 1.5  # to which both faces of a crease fit: more takes what bends for one, and scatters its normals
LIGHT_NOISE = 0.04  # natural logarithm: the scatter of fine light between photographs of one place


@dataclass(frozen=True)
class FrameView:
    """One frame's surface in its camera's frame, thinned to every second pixel.

    fitted (h/2, w/2) float32 mm; normals, rays and confidence alike; points (n, 3), point_normals
    weights and point_light a seeded sample; noise_mm its scatter; spacing_mm the distance between pixels. light
    (h/2, w/2, 3) float32 is the fine detail of the photograph's light, see `fine_light`, and its steps to the right
    and down, unknown where the photograph has another view; a single unknown pixel when light was not asked for.
    borders are those of flat faces, where neither a table nor markers hold the pass.
    """

    cam: np.ndarray
    rays: np.ndarray
    fitted: np.ndarray
    normals: np.ndarray
    confidence: np.ndarray
    points: np.ndarray
    point_normals: np.ndarray
    weights: np.ndarray
    light: np.ndarray
    point_light: np.ndarray
    noise_mm: float
    spacing_mm: float
    borders: Borders = NO_BORDERS

    @property
    def half_cam(self) -> np.ndarray:
        """The camera as a vector, of the thinned maps."""
        return np.concatenate([self.cam[:4] / STRIDE, self.cam[4:]])

    def cloud(self) -> PointCloud:
        """What the thinned maps see, in the camera's frame."""
        seen = self.fitted > 0
        z = self.fitted[seen]
        rays = self.rays[seen]
        return PointCloud(np.stack([rays[:, 0] * z, rays[:, 1] * z, z], axis=1), self.normals[seen])

    @property
    def has_light(self) -> bool:
        """Whether light was asked for: maps of light then have the size of the others."""
        return self.light.shape[:2] == self.fitted.shape


def fine_light(image: np.ndarray, known: np.ndarray) -> np.ndarray:
    """Logarithm of the light (h, w) less its mean over the surroundings, `_kernels.NO_LIGHT` where not known.

    What changes slowly, exposure and the fall of a lamp's light, is gone from it, so that photographs taken from
    different sides can be compared.
    """
    light = log_light(image).mean(axis=2) * known
    near, around = (np.maximum(gaussian_filter(known.astype(np.float32), s), 1e-3) for s in (DETAIL, SURROUNDINGS))
    mean = gaussian_filter(light, SURROUNDINGS) / around
    return np.where(known, gaussian_filter(light, DETAIL) / near - mean, _kernels.NO_LIGHT).astype(np.float32)


def _light_map(scan: PassState, index: int, known: np.ndarray) -> np.ndarray:
    image = scan.colour_in_depth_view(index)
    if image is None:
        return np.full((*known[::STRIDE, ::STRIDE].shape, 3), _kernels.NO_LIGHT, np.float32)
    light = fine_light(image, known)[::STRIDE, ::STRIDE]
    out = np.full((*light.shape, 3), _kernels.NO_LIGHT, np.float32)
    middle, right, left, below, above = (
        light[1:-1, 1:-1], light[1:-1, 2:], light[1:-1, :-2], light[2:, 1:-1], light[:-2, 1:-1]
    )  # fmt: skip
    ok = np.minimum.reduce([middle, right, left, below, above]) > _kernels.NO_LIGHT
    inner = np.stack([middle, (right - left) / 2, (below - above) / 2], axis=2)
    out[1:-1, 1:-1][ok] = inner[ok]
    return out


def frame_view(scan: PassState, index: int, cleaned: bool = True, coloured: bool = False) -> FrameView:
    """Read a frame and thin it; the sample is drawn with the frame's index as seed."""
    # A window that lies across a crease has a plane of neither face, and how it errs differs with the side one looks
    # from: that drew flat shapes along their own faces by up to twice the noise. A table holds them against that.
    by_hand = held_by_nothing_else(scan)
    surface = frame_map(scan, index, cleaned, edge_keeping=by_hand, edge_noises=CREASE_NOISES)
    mask = surface.confidence > 0.05
    count = int(mask.sum())
    flat = surface.unshrunk()
    points = surface.points(mask, flat)
    rng = np.random.default_rng([index, 5])
    chosen = np.sort(rng.choice(count, min(SAMPLES, count), replace=False))
    half = (slice(None, None, STRIDE), slice(None, None, STRIDE))
    depth = float(np.median(points[:, 2])) if count else 0.0
    light = _light_map(scan, index, mask) if coloured else np.full((1, 1, 3), _kernels.NO_LIGHT, np.float32)
    point_light: np.ndarray = np.full(len(chosen), _kernels.NO_LIGHT, np.float32)
    if coloured:
        v, u = (pixels[chosen] for pixels in np.nonzero(mask))
        own = light[v // STRIDE, u // STRIDE]
        inside = own[:, 1] * (u % STRIDE / STRIDE) + own[:, 2] * (v % STRIDE / STRIDE)
        point_light = (own[:, 0] + inside).astype(np.float32)
    spacing = depth / scan.camera.fx
    return FrameView(
        cam=scan.camera.as_vector,
        rays=scan.camera.half_rays,
        fitted=np.ascontiguousarray(flat[half]),
        normals=np.ascontiguousarray(surface.normals[half]),
        confidence=np.ascontiguousarray(surface.confidence[half]),
        points=points[chosen],
        point_normals=surface.normals[mask][chosen],
        weights=surface.confidence[mask][chosen],
        light=light,
        point_light=point_light,
        noise_mm=surface.noise_mm,
        spacing_mm=spacing,
        borders=borders_of(surface, mask, flat, spacing, STRIDE) if by_hand else NO_BORDERS,
    )


class Views:
    """The views of a pass's frames, read when asked for; those asked for last are held, up to `HELD_BYTES`."""

    def __init__(self, scan: PassState) -> None:
        self.scan = scan
        self._held: OrderedDict[int, FrameView] = OrderedDict()

    def __getitem__(self, index: int) -> FrameView:
        view = self._held.pop(index, None) or frame_view(self.scan, index, cleaned=True, coloured=True)
        size = view.fitted.nbytes + view.normals.nbytes + view.confidence.nbytes + view.light.nbytes
        while self._held and (len(self._held) + 1) * size > HELD_BYTES:
            self._held.popitem(last=False)
        self._held[index] = view
        return view
