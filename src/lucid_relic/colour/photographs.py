"""The photographs of all placed passes, laid end to end so that one compiled loop can ask any of them."""

from collections.abc import Container, Iterable
from dataclasses import dataclass

import numpy as np
from scipy.ndimage import distance_transform_edt, gaussian_filter, laplace

from lucid_relic.colour._view_kernels import START
from lucid_relic.geometry.depth_map import kept_part
from lucid_relic.geometry.rigid import inverse
from lucid_relic.light.srgb import LINEAR
from lucid_relic.progress import Progress
from lucid_relic.threads import side_by_side
from lucid_relic.types import PassState, ScanState

FEATHER = 8.0  # pixels over which a photograph fades out
MAX_VIEWS = 192  # photographs held at once; more are thinned evenly
BLUR_SIGMA = 1.5  # pixels over which sharpness is asked
LEAST_SHARP = 0.2  # trust that the most blurred photograph keeps: it may be the only one
CAMERA = 11  # numbers of a camera


@dataclass(frozen=True)
class View:
    """One photograph ready to be asked.

    depth (h, w) float32 mm tests what it could see and trust (h, w) float32 0-1 how well; cam is the camera of both
    (`Camera.as_vector`). image (H, W, 3) uint8 belongs to colour_cam, which T_colour_depth leads to. of names the pass
    and the number of the frame that it is a photograph of.
    """

    T_camera_object: np.ndarray
    cam: np.ndarray
    depth: np.ndarray
    trust: np.ndarray
    T_colour_depth: np.ndarray
    colour_cam: np.ndarray
    image: np.ndarray
    of: tuple[str, int] = ("", 0)


class Photographs:
    """All views; `arrays` is what the loops of `colour._view_kernels` take, pixels of all views end to end."""

    def __init__(self, views: Iterable[View]) -> None:
        held = list(views)
        self.count = len(held)
        self.of = tuple(v.of for v in held)
        self.pixel_mm = float(np.median([_pixel_mm(v) for v in held])) if held else 0.0
        area = np.array([[v.depth.size, v.image.shape[0] * v.image.shape[1]] for v in held], np.int64).reshape(-1, 2)
        ends = np.concatenate([np.zeros((1, 2), np.int64), np.cumsum(area, axis=0)])
        depth, trust = np.empty(ends[-1, 0], np.float32), np.empty(ends[-1, 0], np.uint8)
        image = np.empty((ends[-1, 1], 3), np.uint8)
        for view, (d, i), (d_end, i_end) in zip(held, ends, ends[1:], strict=False):
            depth[d:d_end] = view.depth.ravel()
            trust[d:d_end] = np.round(view.trust.ravel() * 255)
            image[i:i_end] = view.image.reshape(-1, 3)
        rows = [
            np.concatenate([
                v.T_camera_object[:3].ravel(), v.cam[:CAMERA], v.T_colour_depth[:3].ravel(), v.colour_cam[:CAMERA],
                v.depth.shape, v.image.shape[:2], begin,
            ])
            for v, begin in zip(held, ends, strict=False)
        ]  # fmt: skip
        table = np.array(rows, np.float64).reshape(self.count, START + 2)
        self.arrays = (table, depth, trust, image, LINEAR)


def photographs(state: ScanState, progress: Progress, left_out: Container[tuple[str, int]] = ()) -> Photographs:
    """The photographs of the frames that are in, at most `MAX_VIEWS`, evenly chosen; blurred ones trusted less.

    left_out names photographs, by pass and number of the frame, that are not to be used.
    """
    frames = [(p, int(i)) for p in state.used_passes() for i in p.frames_used() if (p.title, int(i)) not in left_out]
    count = min(len(frames), MAX_VIEWS)
    chosen = np.unique(np.linspace(0, len(frames) - 1, count).astype(int)) if count else np.empty(0, int)
    views = []
    for done, k in enumerate(chosen):
        progress(done / len(chosen), "Reading photographs")
        scan, index = frames[k]
        image = scan.source.colour(index)
        if image is not None:
            views.append(_view(scan, index, image))
    progress(1.0, "Reading photographs")
    sharp = side_by_side(sharpness, [view.image for view in views])
    for view, share in zip(views, relative_sharpness(np.array(sharp)), strict=True):
        np.multiply(view.trust, share, out=view.trust)
    return Photographs(views)


def _view(scan: PassState, index: int, image: np.ndarray) -> View:
    surface, _, _ = kept_part(scan, index)
    camera = scan.colour_camera or scan.camera
    T_depth_colour = np.eye(4) if scan.T_depth_colour is None else scan.T_depth_colour
    # A photograph fades out towards every border of what it saw, so that its end leaves no edge.
    inside = distance_transform_edt(surface.confidence > 0)
    trust = surface.confidence * np.minimum(inside / FEATHER, 1.0)
    return View(
        inverse(scan.T_object_camera(index)), surface.camera.as_vector, surface.fitted, trust.astype(np.float32),
        inverse(T_depth_colour), camera.as_vector, image, (scan.title, index),
    )  # fmt: skip


def _pixel_mm(view: View) -> float:
    """How wide a pixel of a photograph is on what it shows."""
    seen = view.depth[view.trust > 0]
    return float(np.median(seen)) / view.colour_cam[0] if len(seen) else 1.0


def sharpness(image: np.ndarray) -> float:
    """How much finest detail a photograph (h, w, 3) uint8 holds against its somewhat coarser detail.

    The ratio of the energies of the Laplacian (Pertuz et al. 2013, doi:10.1016/j.patcog.2012.11.011) before and
    after a blur: what is shown cancels for the most part, blur of lens or motion does not.
    """
    grey = image.astype(np.float32).mean(axis=2)
    coarse = laplace(gaussian_filter(grey, BLUR_SIGMA)).std()
    return float(laplace(grey).std() / max(coarse, 1e-6))


def relative_sharpness(values: np.ndarray) -> np.ndarray:
    """Trust factors (n,) `LEAST_SHARP`-1 from the sharpness of all photographs: what is typical counts in full."""
    if not len(values):
        return values
    typical = max(float(np.median(values)), 1e-6)
    return np.clip((values / typical) ** 2, LEAST_SHARP, 1.0)
