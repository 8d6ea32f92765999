"""Where marker dots lie in space: along the ray of their middle, as far off as the depth image says."""

from dataclasses import dataclass

import numpy as np

from lucid_relic.markers.detect import Dots, detect, middle_one
from lucid_relic.types import Camera

REACH = 0.85  # of a dot's radii from its middle that its distance is taken from: its edges may be torn
LEAST_DEPTHS = 4  # pixels of a disc that must have a distance
OUTLYING = 3.0  # times the median deviation from a disc's plane from which on a distance counts as torn
LEAST = 3  # dots that hold a frame
LEAST_HEIGHT_MM = 8.0  # of what they span: on a line they leave a turn open
TINY = 1e-9 * np.eye(3)  # keeps the equations of depths on a line solvable
TOLD_RADIUS_PX = 2.5  # of a dot whose place alone is known
MIDDLE_PX = 0.08  # how sure a middle is in a photograph


@dataclass(frozen=True)
class SpaceDots:
    """Dots of one frame in its camera: points (n, 3) mm, sigma (n, 2) mm across and along the ray, number (n,), -1 without, pixel (n, 2)."""

    points: np.ndarray
    sigma: np.ndarray
    number: np.ndarray
    pixel: np.ndarray

    @classmethod
    def none(cls) -> "SpaceDots":
        """Of a frame that shows no dots."""
        return cls(np.zeros((0, 3)), np.zeros((0, 2)), np.zeros(0, int), np.zeros((0, 2)))

    def __len__(self) -> int:
        return len(self.points)

    def as_marks(self) -> list[dict[str, float]]:
        """As the manifest of a capture names them."""
        return [
            {"u": round(float(u), 3), "v": round(float(v), 3), **({"id": int(n)} if n >= 0 else {})}
            for (u, v), n in zip(self.pixel, self.number, strict=True)
        ]

    @property
    def firm(self) -> bool:
        """Whether they hold a frame all ways."""
        return firm(self.points)


def firm(points: np.ndarray) -> bool:
    """Whether places (n, 3) hold a frame all ways: three at least, not on a line."""
    if len(points) < LEAST:
        return False
    spread = np.linalg.svd(points - points.mean(axis=0), compute_uv=False)
    return bool(spread[1] > LEAST_HEIGHT_MM)


def dots_in_space(image: np.ndarray, depth: np.ndarray, camera: Camera) -> SpaceDots:
    """The dots that photograph (h, w, 3) uint8 and depth (h, w) mm of one view show."""
    return _in_space(detect(image), depth, camera)


def told_in_space(marks: np.ndarray, depth: np.ndarray, camera: Camera) -> SpaceDots:
    """The dots that lie at places of the view: marks (n, 3) u, v and number (-1 without one)."""
    disc = np.tile(TOLD_RADIUS_PX * np.eye(2), (len(marks), 1, 1))
    return _in_space(Dots(marks[:, :2], disc, marks[:, 2].astype(int)), depth, camera)


def _in_space(dots: Dots, depth: np.ndarray, camera: Camera) -> SpaceDots:
    found = [_distance(depth, dots, k, camera) for k in range(len(dots))]
    good = [k for k, f in enumerate(found) if f is not None]
    z = np.array([found[k] for k in good], float).reshape(-1, 2)
    pixel = dots.pixel[good]
    points = np.column_stack([camera.rays_at(pixel), np.ones(len(good))]) * z[:, :1]
    sigma = np.stack([MIDDLE_PX * z[:, 0] / camera.fx, z[:, 1]], axis=1)
    return SpaceDots(points, sigma, dots.number[good], pixel)


def _distance(depth: np.ndarray, dots: Dots, k: int, camera: Camera) -> tuple[float, float] | None:
    """Distance (mm) of a dot's middle by the plane of its disc, and how sure it is; None where too little is measured."""
    middle, axes = dots.pixel[k], dots.ellipse[k]
    reach = np.abs(axes).max(axis=0) + 1
    (left, top), (right, bottom) = np.floor(middle - reach).astype(int), np.ceil(middle + reach).astype(int) + 1
    v, u = np.mgrid[max(top, 0) : bottom, max(left, 0) : right].reshape(2, -1)
    inside = (u < depth.shape[1]) & (v < depth.shape[0])
    v, u = v[inside], u[inside]
    off = np.stack([u, v], axis=1) - middle
    away = np.linalg.norm(off @ (axes / (axes**2).sum(axis=1, keepdims=True)).T, axis=1)
    z = depth[v, u].astype(float)
    on = (away < REACH) & (z > 0)
    places = np.column_stack([np.ones(len(off)), off])
    # Inverse distances of a plane are linear in the picture.
    for _ in range(2):
        if on.sum() < LEAST_DEPTHS:
            return None
        terms = places[on]
        plane = np.linalg.solve(terms.T @ terms + TINY, terms.T @ (1 / z[on]))
        rest = np.abs(z - 1 / np.maximum(places @ plane, 1e-9))
        on &= rest < OUTLYING * max(middle_one(rest[on]), 1e-3) * 1.4826
    if plane[0] <= 0 or on.sum() < LEAST_DEPTHS:
        return None
    return 1 / plane[0], max(float(rest[on].std()), 0.005) / np.sqrt(on.sum() - 3 + 1e-9) + 0.005
