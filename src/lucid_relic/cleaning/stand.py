"""Stand cut: find the plate an object stands on, and take it away with all that lies below.

With a turntable the plate is square to the axis, so the search is one-dimensional: the heights along
the axis of all points that face its tip, and the lowest height that holds a plate's worth of area.
Without one, the plane with most support (RANSAC, Fischler & Bolles 1981) is taken when nearly all the
rest lies on one side of it. Points that came in may have no stand any more, and the object's own flat foot is no plate: there
the plane must also reach beyond what stands on it.
"""

from dataclasses import dataclass

import numpy as np
from scipy.ndimage import uniform_filter
from scipy.spatial import Delaunay, QhullError

from lucid_relic.errors import StepNotPossible
from lucid_relic.executor import in_order
from lucid_relic.geometry.depth_map import depth_map
from lucid_relic.geometry.pass_points import pass_points
from lucid_relic.geometry.rigid import basis_from_z, transform_points
from lucid_relic.progress import Progress
from lucid_relic.types import PassState, PointCloud

FACING_COS = 0.94  # a point of the plate faces within 20° of its normal, noise and bend included
AREA_SHARE = 0.12  # of the fullest height: the lowest height with so much is the plate, not a speck below it
MIN_PLATE_POINTS = 80  # thinned points that make a plate: some square centimetres
RANSAC_ROUNDS = 400  # finds a plane that holds 4 % of the points with 99.99 % certainty when one point gives a plane
ONE_SIDE = 0.9  # of the rest must lie on one side of the plane: a plate has nothing below it
RAW_SHARE = 0.5  # of the height above the plate that a pixel's own depth must reach, beside its smoothed one
MAX_SEARCH_FRAMES = 12  # of a pass are asked for the plate; more see the same plate
PLATE_SCATTERS = 4.0  # widths of the plate's scatter above it: one point of the plate in 15 000 stays
PLATE_NOISES = 1.2  # widths of the noise above it: edge-keeping planes of the plate reach so far, one in ten thousand
BESIDE = 0.35  # of a plate lies outside of what stands on it; of the object's own flat side, nearly nothing
NEIGHBOURS = 5  # of the nine pixels around one that must stay with it: fewer are the plate's noise
PLATE_SPACINGS = 0.5  # pixel spacings above it at the least: the window of a normal reaches so far
PLATE_TILT_DEG = 10.0  # a plane that leans more off the table's axis was drawn for something else than the plate


@dataclass(frozen=True)
class Plate:
    """A plane n·p = d in a pass's frame, its scatter (mm) and how many thinned points hold it."""

    normal: np.ndarray
    offset: float
    scatter_mm: float
    support: int

    @property
    def plane(self) -> np.ndarray:
        """(4,) normal and offset."""
        return np.append(self.normal, self.offset)


def find_plate(scan: PassState, spacing_mm: float) -> Plate:
    """Find the plate of a pass; raises `StepNotPossible` when there is none to be found."""
    frames = scan.frames_used()
    every = max(1, len(frames) // MAX_SEARCH_FRAMES)
    cloud = pass_points(scan, 2.0 * spacing_mm, cleaned=False, frames=frames[::every])
    if scan.turntable is not None and len(cloud):
        axis = scan.frame_poses[frames[0]][:3, :3] @ scan.turntable.axis_direction
        return _plate_across(cloud, axis, spacing_mm)
    plate = plate_in(cloud, spacing_mm)
    if scan.cloud is not None and not _reaches_beyond(cloud, plate, spacing_mm):
        raise StepNotPossible(_no_plate("its largest plane is a side of the object"))
    return plate


def _reaches_beyond(cloud: PointCloud, plate: Plate, spacing_mm: float) -> bool:
    """Whether much of a plate lies beside what stands on it, seen along its normal."""
    height = cloud.points @ plate.normal - plate.offset
    flat = cloud.points @ basis_from_z(plate.normal)[:, :2]
    on, above = np.abs(height) < 2 * spacing_mm, height > 4 * spacing_mm
    if above.sum() < 4:
        return True
    try:
        outline = Delaunay(flat[above])
    except QhullError:
        return True
    return bool((outline.find_simplex(flat[on]) < 0).mean() > BESIDE)


def _plate_across(cloud: PointCloud, axis: np.ndarray, spacing_mm: float) -> Plate:
    """The lowest well-supported plane square to the axis."""
    along = cloud.normals @ axis
    if (along < -FACING_COS).sum() > (along > FACING_COS).sum():
        axis, along = -axis, -along
    facing = along > FACING_COS
    heights = cloud.points[facing] @ axis
    if len(heights) < MIN_PLATE_POINTS:
        raise StepNotPossible(_no_plate("too few points face the axis"))
    bin_mm = max(0.5 * spacing_mm, 0.05)
    low, high = np.percentile(heights, [0.05, 100])
    histogram, edges = np.histogram(heights, bins=max(int((high - low) / bin_mm), 1), range=(low, high + bin_mm))
    window = np.convolve(histogram, np.ones(5), mode="same")
    enough = window >= max(AREA_SHARE * window.max(), MIN_PLATE_POINTS)
    first = int(np.argmax(enough))
    if not enough.any():
        raise StepNotPossible(_no_plate("no height holds enough area"))
    peak = first + int(np.argmax(window[first : first + 8]))
    level = (edges[peak] + edges[peak + 1]) / 2
    return _refined(cloud, axis, level, 3 * bin_mm)


def _refined(cloud: PointCloud, normal: np.ndarray, level: float, max_distance: float) -> Plate:
    """Least-squares plane through the points near a level, the greatest distance narrowing to the scatter."""
    normal = normal / np.linalg.norm(normal)
    for _ in range(6):
        height = cloud.points @ normal - level
        near = (np.abs(height) < max_distance) & (cloud.normals @ normal > FACING_COS)
        if near.sum() < MIN_PLATE_POINTS // 2:
            raise StepNotPossible(_no_plate("its points do not lie in one plane"))
        points = cloud.points[near].astype(np.float64)
        centre = points.mean(axis=0)
        _, _, vt = np.linalg.svd(points - centre, full_matrices=False)
        fitted = vt[2] * np.sign(vt[2] @ normal)
        if fitted @ normal > np.cos(np.radians(3)):
            normal = fitted
        level = float(centre @ normal)
        scatter = 1.4826 * float(np.median(np.abs(points @ normal - level)))
        max_distance = max(4 * scatter, 0.02)
    return Plate(normal, level, scatter, int(near.sum()))


def plate_in(cloud: PointCloud, spacing_mm: float) -> Plate:
    """The plane that holds the most points of a cloud, when nearly all others lie on one side of it.

    Raises `StepNotPossible` when there is none.
    """
    if len(cloud) < MIN_PLATE_POINTS:
        raise StepNotPossible(_no_plate("there are too few points"))
    rng = np.random.default_rng(11)
    points = cloud.points.astype(np.float64)
    best, best_support = None, 0
    for i in rng.integers(len(points), size=RANSAC_ROUNDS):
        normal = cloud.normals[i].astype(np.float64)
        height = (points - points[i]) @ normal
        near = (np.abs(height) < 2 * spacing_mm) & (cloud.normals @ normal > FACING_COS)
        if near.sum() > best_support:
            best, best_support = (normal, float(points[i] @ normal)), int(near.sum())
    if best is None or best_support < max(MIN_PLATE_POINTS, 0.04 * len(points)):
        raise StepNotPossible(_no_plate("no plane holds enough points"))
    plate = _refined(cloud, best[0], best[1], 2 * spacing_mm)
    rest = points @ plate.normal - plate.offset
    if (rest[np.abs(rest) > 2 * spacing_mm] > 0).mean() < ONE_SIDE:
        raise StepNotPossible(_no_plate("the largest plane has object on both sides"))
    return plate


def _no_plate(why: str) -> str:
    return f"No plate was found: {why}. Draw the cut by hand, or go on if nothing stands under the object."


def cut_height(plate: Plate, spacing_mm: float, noise_mm: float) -> float:
    """How far (mm) above a found plate to cut when nobody says: over its scatter, the noise and the pixels' coarseness."""
    return max(PLATE_SCATTERS * plate.scatter_mm, PLATE_SPACINGS * spacing_mm, PLATE_NOISES * noise_mm)


def plane_in_pass(plane: np.ndarray, T_object_pass: np.ndarray) -> np.ndarray:
    """A plane (4,) of the object's frame, n·p = d, in the frame of a pass."""
    normal = T_object_pass[:3, :3].T @ plane[:3]
    return np.append(normal, plane[3] - plane[:3] @ T_object_pass[:3, 3])


def plane_in_object(plane: np.ndarray, T_object_pass: np.ndarray) -> np.ndarray:
    """A plane (4,) of a pass's frame in the object's frame."""
    normal = T_object_pass[:3, :3] @ plane[:3]
    return np.append(normal, plane[3] + normal @ T_object_pass[:3, 3])


def is_plate(scan: PassState, plane: np.ndarray) -> bool:
    """Whether a plane (4,) of the pass's frame can be what the object stands on: square to the table's axis."""
    frames = scan.frames_used()
    if scan.turntable is None or not len(frames):
        return True
    axis = scan.frame_poses[frames[0]][:3, :3] @ scan.turntable.axis_direction
    return bool(abs(axis @ plane[:3]) > np.cos(np.radians(PLATE_TILT_DEG)))


def height_over(plate: np.ndarray, points: np.ndarray) -> np.ndarray:
    """(n,) mm of points (n, 3) above a plane (4,)."""
    return points @ plate[:3] - plate[3]


def keep_above(scan: PassState, plate: np.ndarray, above_mm: float, progress: Progress) -> tuple[np.ndarray, int, int]:
    """Packed keep masks (n, bytes) of pixels, or points, higher than the plate, with counts before and after."""
    if scan.cloud is not None:
        return _points_above(scan, plate, above_mm)
    masks, before, after = [], 0, 0
    calls = ((scan, plate, above_mm, i) for i in range(scan.frame_count))
    for keep, seen in in_order(_frame_above, calls, scan.frame_count, progress, "Cutting the stand away"):
        before += seen
        after += int(keep.sum())
        masks.append(np.packbits(keep.ravel()))
    return np.stack(masks), before, after


def _points_above(scan: PassState, plate: np.ndarray, above_mm: float) -> tuple[np.ndarray, int, int]:
    keep = height_over(plate, scan.cloud.cloud.points) > above_mm
    before = len(keep)
    old = scan.kept_points()
    if old is not None:
        keep &= old
        before = int(old.sum())
    return np.packbits(keep)[None], before, int(keep.sum())


def _frame_above(scan: PassState, plate: np.ndarray, above_mm: float, i: int) -> tuple[np.ndarray, int]:
    """Which pixels (h, w) of one frame lie above the cut, and how many were usable."""
    surface = depth_map(scan.source.depth(i), scan.camera, edge_keeping=True)
    seen = surface.confidence > 0
    old = scan.keep_mask(i)
    if old is not None:
        seen &= old
    pose = scan.frame_poses[i]
    smoothed = height_over(plate, transform_points(pose, surface.points(seen, surface.fitted)))
    raw = height_over(plate, transform_points(pose, surface.points(seen)))
    keep = np.zeros(seen.shape, bool)
    # Where object meets plate a window holds both, so its plane alone would lift the plate over the cut.
    keep[seen] = (smoothed > above_mm) & (raw > above_mm - RAW_SHARE * abs(above_mm))
    among = uniform_filter(keep.astype(np.float32), 3, mode="constant")
    keep &= among > (NEIGHBOURS - 0.5) / 9
    return keep, int(seen.sum())
