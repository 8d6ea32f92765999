"""Where flat faces end in a frame: what holds a frame that sees one face alone, which may slide along itself.

A border is the last pixel of a face that is flat up to it and looks at the head, with free space or something deeper
beside it. There the edge of the object itself ends what is seen, from wherever one looks; the outline of a round body
moves with the head, and is none.
"""

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from scipy.ndimage import distance_transform_edt

from lucid_relic.alignment import _border_kernels
from lucid_relic.geometry.depth_map import DepthMap
from lucid_relic.types import Camera

SAMPLES = 300  # of a frame
FEWEST = 12  # fewer are chance
INWARDS = (2, 4, 6)  # pixels into the face, all of which lie on one plane with the border
ON_PLANE_NOISES, ON_PLANE_SPACINGS = 2.0, 0.1
# Seen flatter a pixel is long along the face, and borders drew frames by 0.3 pixels.
LEAST_FACING = np.cos(np.radians(42.0))
DEEPER_SPACINGS = 3.0  # what lies so much deeper beside a pixel belongs to something else
FOLLOWED = np.arange(1, 33) / 8  # pixels outwards, where it is asked whether the face still goes on
SMOOTHED = 1.5  # pixels over which the outline is smoothed before its direction is taken
# Of a border, which lies anywhere within its last pixel or is one of something else: with less it outweighs the shape.
SCATTER_SPACINGS = 1.0
ROOM = 8  # pixels between a border and the image's own
SIDES = ((1, 0), (-1, 0), (0, 1), (0, -1))
# The derivative of a Gaussian on the pixels around: what a mask weighted by it points to.
AROUND = np.stack(np.meshgrid(np.arange(-4, 5), np.arange(-4, 5), indexing="ij"), axis=-1).reshape(-1, 2)
SLOPE = AROUND * np.exp(-(AROUND**2).sum(axis=1, keepdims=True) / (2 * SMOOTHED**2))


@dataclass(frozen=True)
class Borders:
    """Border points (m, 3) float32 in the camera's frame, mm, and where faces lie beside them.

    across (m, 3) unit, in the face, square to the border and away from the face; normals (m, 3) of the face; pixels
    (m, 2) row and column in the image thinned by `stride`, of `shape`; cam the camera as a vector.
    """

    points: np.ndarray
    across: np.ndarray
    normals: np.ndarray
    pixels: np.ndarray
    shape: tuple[int, int]
    stride: int
    cam: np.ndarray

    def __len__(self) -> int:
        return len(self.points)

    @cached_property
    def nearest(self) -> np.ndarray:
        """(h, w) int32: which border is nearest to a pixel of the thinned image, -1 where there are none."""
        if not len(self):
            return np.full((1, 1), -1, np.int32)
        which = np.full(self.shape, -1, np.int32)
        which[self.pixels[:, 0], self.pixels[:, 1]] = np.arange(len(self), dtype=np.int32)
        rows, columns = distance_transform_edt(which < 0, return_distances=False, return_indices=True)
        return which[rows, columns]

    def placed(self, pose: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Points, across and normals where a pose (4, 4) puts them."""
        R = pose[:3, :3].T
        return self.points @ R + pose[:3, 3], self.across @ R, self.normals @ R


NONE = np.zeros((0, 3), np.float32)
NO_BORDERS = Borders(NONE, NONE, NONE, np.zeros((0, 2), np.int64), (1, 1), 1, np.zeros(9))


@dataclass(frozen=True)
class Pull:
    """How borders pull: from how far and on what scale (mm) they let go, what a point weighs, and the centre of turns (3,)."""

    max_dist: float
    scale: float
    weight: float
    centre: np.ndarray


def borders_of(surface: DepthMap, mask: np.ndarray, depth: np.ndarray, spacing_mm: float, stride: int) -> Borders:
    """The borders among the pixels in mask (h, w), whose smoothed depth (h, w) mm is known; stride that of thinned maps."""
    # 1. The last pixels before free space, and which way their face lies.
    v, u = _last_pixels(mask)
    beside = np.stack([surface.depth[v + k * a, u + k * b] for a, b in SIDES for k in (1, 2)])
    # An edge tears the last pixel, which then lies on no face: the one before it will do.
    open_to = ((beside <= 0) | (beside > depth[v, u] + DEEPER_SPACINGS * spacing_mm)).any(axis=0)
    v, u = v[open_to], u[open_to]
    if len(v) < FEWEST:
        return NO_BORDERS
    around = mask[v[:, None] + AROUND[:, 0], u[:, None] + AROUND[:, 1]]
    inward = around @ SLOPE[:, ::-1]
    inward /= np.maximum(np.linalg.norm(inward, axis=1, keepdims=True), 1e-9)
    # 2. Those up to which the face is flat, and looks at the head.
    rays = surface.camera.rays
    steps = [tuple(np.rint([v + k * inward[:, 1], u + k * inward[:, 0]]).astype(int)) for k in INWARDS]
    face = surface.normals[steps[len(steps) // 2]]
    points = _places(rays, depth, (v, u))
    most = ON_PLANE_NOISES * surface.noise_mm + ON_PLANE_SPACINGS * spacing_mm
    flat = -np.einsum("ij,ij->i", face, points) > LEAST_FACING * np.linalg.norm(points, axis=1)
    for step in steps:
        flat &= mask[step] & (np.abs(np.einsum("ij,ij->i", face, _places(rays, depth, step) - points)) < most)
    chosen = np.flatnonzero(flat)
    if len(chosen) < FEWEST:
        return NO_BORDERS
    chosen = chosen[np.unique(np.linspace(0, len(chosen) - 1, SAMPLES).astype(int))]
    v, u, points, face, inward = (each[chosen] for each in (v, u, points, face, inward))
    # 3. Where they end: what is left out beside a jump still tells that, by the pixels as they were measured.
    pixel = _lifted(inward, face, points, surface.camera)
    across = -_across(inward, face, points, surface.camera, pixel)
    ends = _ends(surface, np.stack([v, u], axis=1), -inward[:, ::-1], face, points, most)
    points = points - across * (ends * np.einsum("ij,ij->i", across, pixel))[:, None]
    return Borders(
        points.astype(np.float32), across.astype(np.float32), face.astype(np.float32),
        np.stack([v // stride, u // stride], axis=1), (-(-mask.shape[0] // stride), -(-mask.shape[1] // stride)),
        stride, surface.camera.as_vector,
    )  # fmt: skip


def _last_pixels(mask: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Rows and columns of the pixels in mask (h, w) within two of one that is not, with `ROOM` around them."""
    inner = mask[ROOM:-ROOM, ROOM:-ROOM]
    whole = np.ones_like(inner)
    for a, b in SIDES:
        for k in (1, 2):
            whole &= mask[ROOM + k * a : mask.shape[0] - ROOM + k * a, ROOM + k * b : mask.shape[1] - ROOM + k * b]
    v, u = np.nonzero(inner & ~whole)
    return v + ROOM, u + ROOM


def _places(rays: np.ndarray, depth: np.ndarray, pixels: tuple[np.ndarray, ...]) -> np.ndarray:
    z = depth[pixels]
    return np.stack([rays[pixels][:, 0] * z, rays[pixels][:, 1] * z, z], axis=1)


def _ends(
    surface: DepthMap, at: np.ndarray, outward: np.ndarray, face: np.ndarray, points: np.ndarray, most_mm: float
) -> np.ndarray:  # fmt: skip
    """(m,) how many pixels farther out the faces end, as far as they are followed, from pixels `at` (m, 2)."""
    rays = surface.camera.rays
    ends = np.full(len(at), FOLLOWED[-1])
    on = np.ones(len(at), bool)
    for k in FOLLOWED:
        pixels = tuple(np.rint(at + k * outward).astype(int).T)
        off = np.abs(np.einsum("ij,ij->i", face, _places(rays, surface.depth, pixels) - points)) > 2 * most_mm
        ends[on & off] = k - FOLLOWED[0] / 2
        on &= ~off
    return ends


def _lifted(way: np.ndarray, face: np.ndarray, points: np.ndarray, camera: Camera) -> np.ndarray:
    """(m, 3) what a pixel's step along `way` (m, 2) in the image is in the faces, mm."""
    aside = np.column_stack([way / [camera.fx, camera.fy], np.zeros(len(way))]) * points[:, 2:]
    return aside - points * (np.einsum("ij,ij->i", face, aside) / np.einsum("ij,ij->i", face, points))[:, None]


def _across(inward: np.ndarray, face: np.ndarray, points: np.ndarray, camera: Camera, pixel: np.ndarray) -> np.ndarray:
    """(m, 3) unit vectors in the faces, square to borders whose faces lie `inward` (m, 2) in the image."""
    out = np.cross(face, _lifted(inward[:, ::-1] * [-1, 1], face, points, camera))
    out *= np.sign(np.einsum("ij,ij->i", out, pixel))[:, None]
    return out / np.maximum(np.linalg.norm(out, axis=1, keepdims=True), 1e-9)


def border_weight(noise_mm: float, spacing_mm: float) -> float:
    """How much a border weighs against a point of the shape, by how much either scatters."""
    return (max(noise_mm, 0.02 * spacing_mm) / (SCATTER_SPACINGS * spacing_mm)) ** 2


def border_terms(
    placed: tuple[np.ndarray, np.ndarray, np.ndarray], theirs: Borders, T_camera_object: np.ndarray, pull: Pull
) -> tuple[np.ndarray, np.ndarray]:
    """Normal equations (6, 6), upper triangle, and (6,) of placed borders against those that a camera sees."""
    hessian, gradient = np.zeros((6, 6)), np.zeros(6)
    if len(placed[0]) and len(theirs):
        _border_kernels.border_terms(
            *placed, T_camera_object, theirs.cam, theirs.nearest, theirs.points, theirs.across, theirs.normals,
            theirs.stride, pull.max_dist, pull.scale, pull.weight, pull.centre, hessian, gradient,
        )  # fmt: skip
    return hessian, gradient
