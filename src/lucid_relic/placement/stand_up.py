"""Stand up: find the motion that puts an object upright on z = 0, centred, front forward.

The way up is told by the plate where one is known, by a plane, by three places, or found: the way the object would
rest, on the flattest of the planes that its hull can stand on (stable poses of a convex hull:
the centre of gravity lies over what touches), else along the principal axis whose foot is flattest. The front
stays where the first frame looked from, unless a place says what looks forward.
"""

from dataclasses import dataclass
from typing import Literal

import numpy as np
from scipy.spatial import ConvexHull, QhullError

from lucid_relic.errors import StepNotPossible
from lucid_relic.types import ScanState, TriangleMesh

By = Literal["auto", "plate", "plane", "places", "axes"]
Place = tuple[float, float, float]
ALIKE_DEG = 3.0  # apart: facets of a hull that are one plane
TOUCHES = (0.012, 0.012, 0.006, 0.006)  # of the height over the plane: what touches it, with the waves of a foot
FACES_DOWN = 0.94  # cosine with the way down (20°)
WIDE = 0.05  # of the area that a stance spans, against the area that touches
LEAST_FOOT = 0.0015  # share of the surface that a foot has at least
LEAST_TOUCHING = 12  # spots that a plane is laid through
SPOTS = 40_000  # of the surface that are judged by
SEED = 6
MOST_FACETS = 400  # of a hull that are judged, the largest
HELPERS = (np.array([1.0, 0, 0]), np.array([0, 1.0, 0]))


@dataclass(frozen=True)
class Stance:
    """What says how an object stands: by which way, the plane (n·p = d, n up) or the places that give it, and whether
    those are of its foot or of a top, the place that looks forward, the centre ("foot", "middle" or a place), and a turn about the upright afterwards."""

    by: By = "auto"
    plane: tuple[float, float, float, float] | None = None
    places: tuple[Place, ...] | None = None
    places_of: Literal["foot", "top"] = "foot"
    front: Place | None = None
    centre: str | Place = "middle"
    turn_deg: float = 0.0


def standing_motion(state: ScanState, stance: Stance | None = None) -> tuple[np.ndarray, str]:
    """T_upright_object (4×4) and how the way up was found: "plate", "plane", "places", "foot" or "principal axes"."""
    stance = stance or Stance()
    mesh = state.mesh
    if mesh is None or not len(mesh.faces):
        raise StepNotPossible("There is no mesh to stand up yet. Fuse first.")
    up, by = _way_up(state, mesh, stance)
    front = _front(state, mesh, stance.front, up)
    right = np.cross(front, up)
    rotation = _turn(stance.turn_deg) @ np.stack([right, np.cross(up, right), up])
    turned = mesh.vertices.astype(np.float64) @ rotation.T
    motion = np.eye(4)
    motion[:3, :3] = rotation
    motion[:3, 3] = [*-_middle(turned, rotation, stance.centre), -turned[:, 2].min()]
    return motion, by


def _turn(degrees: float) -> np.ndarray:
    c, s = np.cos(np.radians(degrees)), np.sin(np.radians(degrees))
    return np.array([[c, -s, 0], [s, c, 0], [0, 0, 1.0]])


def _middle(turned: np.ndarray, rotation: np.ndarray, centre: str | Place) -> np.ndarray:
    """What is to stand on the upright through the origin, x and y."""
    if not isinstance(centre, str):
        middle: np.ndarray = (rotation @ np.array(centre))[:2]
        return middle
    if centre == "foot":
        height = turned[:, 2]
        turned = turned[height < height.min() + max(TOUCHES[0] * np.ptp(height), 0.3)]
    return (turned.min(axis=0) + turned.max(axis=0))[:2] / 2


def _way_up(state: ScanState, mesh: TriangleMesh, stance: Stance) -> tuple[np.ndarray, str]:
    by = stance.by
    if by == "plane" and stance.plane is not None:
        return np.array(stance.plane[:3]) / np.linalg.norm(stance.plane[:3]), "plane"
    if by == "places":
        return _through_places(mesh, stance.places or (), stance.places_of), "places"
    if by in ("auto", "plate"):
        for scan in state.used_passes():
            if scan.plate is not None:
                up = scan.T_object_pass[:3, :3] @ scan.plate[:3]
                return up / np.linalg.norm(up), "plate"
        if by == "plate":
            raise StepNotPossible(
                "No placed pass knows its plate. Cut the stand of one first, or stand it up by three places."
            )
    if by in ("auto", "plane"):
        foot = resting_way(mesh)
        if foot is not None:
            return foot, "foot"
        if by == "plane":
            raise StepNotPossible("It has no flat foot to stand on. Give a plane, or three places of one.")
    return _flattest_axis(mesh), "principal axes"


def _through_places(mesh: TriangleMesh, places: tuple[Place, ...], of: str) -> np.ndarray:
    """The way up of what stands on the plane through three places, or the best one through more of them."""
    if len(places) < 3:
        raise StepNotPossible(f"{len(places)} of 3 places are picked: pick three that shall lie level, far apart.")
    p = np.array(places, np.float64)
    middle = p.mean(axis=0)
    _, size, axes = np.linalg.svd(p - middle, full_matrices=False)
    if size[1] < 1e-3 * max(size[0], 1e-9):
        raise StepNotPossible("These places lie on a line: pick them far apart, as a triangle.")
    up = axes[2]
    # The object is over its foot, and under its top.
    over = (mesh.vertices.mean(axis=0) - middle) @ up >= 0
    return up if over == (of == "foot") else -up


@dataclass(frozen=True)
class _Spots:
    """Places (n, 3) spread over a surface evenly, and the way (n, 3) it faces there."""

    places: np.ndarray
    facing: np.ndarray


def resting_way(mesh: TriangleMesh) -> np.ndarray | None:
    """(3,) way up of the mesh as it would be put down: on a flat foot that is large and under its middle; None without one."""
    try:
        hull = ConvexHull(mesh.vertices.astype(np.float64))
    except QhullError:
        return None
    corners = hull.points[hull.simplices]
    size = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
    spots = _spots(mesh)
    outline = hull.points[hull.vertices]
    gravity = _centre_of_gravity(mesh)
    judged: list[np.ndarray] = []
    best, best_score = None, 0.0
    for n in np.argsort(-size)[:MOST_FACETS]:
        down = hull.equations[n, :3]
        if any(down @ other > np.cos(np.radians(ALIKE_DEG)) for other in judged):
            continue
        judged.append(down)
        settled, foot = _settled(outline, spots, down)
        share = float(foot.mean())
        if share < LEAST_FOOT:
            continue
        # Legs touch in little, and stand wide.
        depth = outline @ settled
        wide = _area(outline[depth > depth.max() - TOUCHES[0] * np.ptp(depth)] @ _across(settled)) / hull.area
        score = (share + WIDE * wide) * _balance(spots.places[foot], settled, gravity) ** 2
        if score > best_score:
            best, best_score = -settled, score
    return best


def _spots(mesh: TriangleMesh) -> _Spots:
    """Places drawn by area, the same ones for the same mesh."""
    normals = mesh.face_normals().astype(np.float64)
    area = np.linalg.norm(normals, axis=1)
    ends = np.cumsum(area)
    rng = np.random.default_rng(SEED)
    face = np.searchsorted(ends, (np.arange(SPOTS) + rng.random(SPOTS)) / SPOTS * ends[-1]).clip(max=len(area) - 1)
    share = rng.dirichlet([1, 1, 1], SPOTS)
    places = np.einsum("nk,nkj->nj", share, mesh.vertices[mesh.faces[face]].astype(np.float64))
    return _Spots(places, normals[face] / np.maximum(area[face], 1e-20)[:, None])


def _settled(outline: np.ndarray, spots: _Spots, down: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The way down evened out over all that touches, and which spots (n,) bool do."""
    foot = np.zeros(len(spots.places), bool)
    for touches in TOUCHES:
        depth = outline @ down
        foot = spots.places @ down > depth.max() - touches * np.ptp(depth)
        foot &= spots.facing @ down > FACES_DOWN
        if foot.sum() < LEAST_TOUCHING:
            return down, foot
        touching = spots.places[foot]
        _, size, axes = np.linalg.svd(touching - touching.mean(axis=0), full_matrices=False)
        if size[1] < 0.05 * size[0]:
            return down, foot
        down = axes[2] if axes[2] @ down > 0 else -axes[2]
    return down, foot


def _across(down: np.ndarray) -> np.ndarray:
    """(3, 2) two directions square to a way down."""
    x = np.cross(down, HELPERS[0] if abs(down[0]) < 0.8 else HELPERS[1])
    x /= np.linalg.norm(x)
    return np.stack([x, np.cross(down, x)], axis=1)


def _area(flat: np.ndarray) -> float:
    """Area of the hull of places (n, 2); 0 of a line."""
    try:
        return float(ConvexHull(flat).volume)
    except (QhullError, ValueError):
        return 0.0


def _balance(touching: np.ndarray, down: np.ndarray, gravity: np.ndarray) -> float:
    """0-1: how well the centre of gravity lies over the middle of what touches; 0 where it would tip over."""
    across = _across(down)
    try:
        foot = ConvexHull(touching @ across)
    except QhullError:
        return 0.0
    at = gravity @ across
    corners = foot.points[foot.vertices]
    to_rim = -(foot.equations[:, :2] @ at + foot.equations[:, 2])
    if to_rim.min() <= 0:
        return 0.0
    middle = corners.mean(axis=0)
    return float(1 - np.linalg.norm(at - middle) / np.linalg.norm(corners - middle, axis=1).max())


def _centre_of_gravity(mesh: TriangleMesh) -> np.ndarray:
    """Of the body where it is closed about enough, else of its surface."""
    corners = mesh.corners.astype(np.float64)
    origin = corners.mean(axis=(0, 1))
    p = corners - origin
    six = np.einsum("ij,ij->i", p[:, 0], np.cross(p[:, 1], p[:, 2]))
    if abs(six.sum()) > 0.01 * np.abs(six).sum():
        body: np.ndarray = origin + (p.sum(axis=1) * six[:, None]).sum(axis=0) / (4 * six.sum())
        return body
    area = np.linalg.norm(mesh.face_normals(), axis=1)
    return np.average(mesh.face_centres().astype(np.float64), axis=0, weights=area)


def _flattest_axis(mesh: TriangleMesh) -> np.ndarray:
    """Principal axis, with sign, that has the most area facing down near its lowest point."""
    normals = mesh.face_normals()
    area = np.linalg.norm(normals, axis=1)
    middle = mesh.face_centres()
    offset = middle - np.average(middle, axis=0, weights=area)
    _, _, axes = np.linalg.svd(offset * np.sqrt(area)[:, None], full_matrices=False)
    unit = normals / np.maximum(area, 1e-20)[:, None]
    best, best_area = axes[0], -1.0
    for axis in (*axes, *-axes):
        height = middle @ axis
        low = height < height.min() + 0.04 * np.ptp(height)
        flat = float(area[low & (unit @ axis < -0.9)].sum())
        if flat > best_area:
            best, best_area = axis, flat
    return best.astype(np.float64)


def _front(state: ScanState, mesh: TriangleMesh, place: Place | None, up: np.ndarray) -> np.ndarray:
    """Horizontal direction that is to become +y: away from what looks forward, else from the camera of the first frame."""
    if place is not None:
        low, high = mesh.vertices.min(axis=0), mesh.vertices.max(axis=0)
        look = (low + high) / 2 - np.array(place)
    else:
        seen = next(((p, i) for p in state.used_passes() for i in p.frames_used()), None)
        look = seen[0].T_object_camera(int(seen[1]))[:3, 2] if seen else np.array([0, 1.0, 0])
    front = look - up * (look @ up)
    if np.linalg.norm(front) < 1e-3:
        helper = HELPERS[0] if abs(up[0]) < 0.8 else HELPERS[1]
        front = helper - up * (helper @ up)
    return front / np.linalg.norm(front)
