"""Rigid motions as 4×4 float64 matrices; `T_a_b` maps coordinates of b into a."""

import numpy as np
from scipy.spatial.transform import Rotation

RIGID_TOLERANCE = 1e-3  # of R·Rᵀ from 1: what six digits in a file leave


def transform_points(transform: np.ndarray, points: np.ndarray) -> np.ndarray:
    """Apply a 4×4 motion to points (n, 3); the dtype of the points is kept."""
    return (points @ transform[:3, :3].T + transform[:3, 3]).astype(points.dtype, copy=False)


def inverse(transform: np.ndarray) -> np.ndarray:
    """Inverse of a rigid motion (…, 4, 4), exact to rounding."""
    rotation = np.swapaxes(transform[..., :3, :3], -1, -2)
    out = np.zeros_like(transform)
    out[..., :3, :3] = rotation
    out[..., :3, 3] = -np.einsum("...ij,...j->...i", rotation, transform[..., :3, 3])
    out[..., 3, 3] = 1.0
    return out


def from_rotvec(rotvec: np.ndarray, translation: np.ndarray) -> np.ndarray:
    """4×4 motion from a rotation vector (3,) rad and a translation (3,) mm."""
    out = np.eye(4)
    out[:3, :3] = Rotation.from_rotvec(rotvec).as_matrix()
    out[:3, 3] = translation
    return out


def small_motion(delta: np.ndarray) -> np.ndarray:
    """4×4 motion of a left perturbation (6,): rotation vector, then translation."""
    return from_rotvec(delta[:3], delta[3:])


def shifts_of(points: np.ndarray) -> np.ndarray:
    """(n, 3, 6): how places (n, 3) shift with a small motion about the origin, given as turn and shift."""
    out = np.zeros((len(points), 3, 6))
    x, y, z = points.T
    out[:, 0, 1], out[:, 0, 2] = z, -y
    out[:, 1, 0], out[:, 1, 2] = -z, x
    out[:, 2, 0], out[:, 2, 1] = y, -x
    out[:, :, 3:] = np.eye(3)
    return out


def motion_vector(transform: np.ndarray) -> np.ndarray:
    """(6,) rotation vector (rad) and translation (mm), the inverse of `small_motion`."""
    rotvec = Rotation.from_matrix(transform[:3, :3]).as_rotvec()
    return np.concatenate([rotvec, transform[:3, 3]])


def about_axis(point: np.ndarray, direction: np.ndarray, angle_rad: float | np.ndarray) -> np.ndarray:
    """Motion that turns by `angle_rad` about a line, counter-clockwise seen from its tip; (n, 4, 4) for n angles."""
    unit = np.asarray(direction, dtype=np.float64)
    unit = unit / np.linalg.norm(unit)
    angles = np.asarray(angle_rad, dtype=np.float64)
    out = np.zeros((*angles.shape, 4, 4))
    out[..., :3, :3] = Rotation.from_rotvec(angles[..., None] * unit).as_matrix()
    out[..., :3, 3] = point - out[..., :3, :3] @ point
    out[..., 3, 3] = 1.0
    return out


def difference(a: np.ndarray, b: np.ndarray) -> tuple[float, float]:
    """How far apart two motions are: (degrees of turn, mm between their translations)."""
    relative = inverse(a) @ b
    turn = Rotation.from_matrix(relative[:3, :3]).magnitude()
    return float(np.degrees(turn)), float(np.linalg.norm(relative[:3, 3]))


def fit_rigid(source: np.ndarray, target: np.ndarray, weights: np.ndarray | None = None) -> np.ndarray:
    """Least-squares motion (4×4) that takes source (n, 3) onto target (n, 3).

    Umeyama (1991), doi:10.1109/34.88573, without scale; weights (n,) are optional.
    """
    w = np.ones(len(source)) if weights is None else np.asarray(weights, dtype=np.float64)
    w = w / w.sum()
    centre_s, centre_t = w @ source, w @ target
    covariance = (target - centre_t).T @ ((source - centre_s) * w[:, None])
    u, _, vt = np.linalg.svd(covariance)
    sign = np.diag([1.0, 1.0, np.sign(np.linalg.det(u @ vt))])
    out = np.eye(4)
    out[:3, :3] = u @ sign @ vt
    out[:3, 3] = centre_t - out[:3, :3] @ centre_s
    return out


def is_rigid(transform: np.ndarray) -> bool:
    """True for a finite 4×4 matrix made of a proper rotation and a translation."""
    if transform.shape != (4, 4) or not np.isfinite(transform).all():
        return False
    rotation = transform[:3, :3]
    orthogonal = np.abs(rotation @ rotation.T - np.eye(3)).max() < RIGID_TOLERANCE
    last_row = np.abs(transform[3] - [0, 0, 0, 1]).max() < 1e-9
    return bool(orthogonal and last_row and np.linalg.det(rotation) > 0)


def orthonormalised(transform: np.ndarray) -> np.ndarray:
    """The nearest rigid motion to a nearly rigid 4×4 matrix, or to each of a stack of them."""
    out = transform.astype(np.float64).copy()
    out[..., :3, :3] = Rotation.from_matrix(out[..., :3, :3]).as_matrix()
    return out


def turned_deg(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    """(n,) degrees by which each of the motions a (n, 4, 4) is turned against the motion b (4, 4)."""
    trace = np.einsum("nij,ij->n", a[:, :3, :3], b[:3, :3])
    return np.degrees(np.arccos(np.clip((trace - 1) / 2, -1, 1)))


def basis_from_z(direction: np.ndarray) -> np.ndarray:
    """(3, 3) rotation whose third column is the given direction."""
    z = np.asarray(direction, dtype=np.float64) / np.linalg.norm(direction)
    helper = np.array([1.0, 0, 0]) if abs(z[0]) < 0.8 else np.array([0, 1.0, 0])
    x = np.cross(helper, z)
    x /= np.linalg.norm(x)
    return np.stack([x, np.cross(z, x), z], axis=1)


def looking_down(distance_mm: float, down_deg: float) -> np.ndarray:
    """(4, 4) place of a camera that looks at the origin from the front (-y), so far away and so steeply down."""
    down = np.radians(down_deg)
    toward = np.array([0.0, np.cos(down), -np.sin(down)])
    pose = np.eye(4)
    pose[:3, :3] = np.stack([[1.0, 0, 0], np.cross(toward, [1.0, 0, 0]), toward], axis=1)
    pose[:3, 3] = -distance_mm * toward
    return pose


def upright(axis: np.ndarray, at: np.ndarray) -> np.ndarray | None:
    """T (4, 4) that stands an axis (3,) upright through the origin, seen by the camera from the front; the place `at` on
    it goes to the origin.

    The axis may point either way; the camera, at the origin of the frame that it comes from, is taken to look down.
    None when it looks straight down, so that no side is the front.
    """
    up = axis * (-1.0 if axis[2] > 0.1 else 1.0)
    look = np.array([0.0, 0.0, 1.0]) - up * up[2]
    if np.linalg.norm(look) < 1e-3:
        return None
    look /= np.linalg.norm(look)
    T = np.eye(4)
    T[:3, :3] = np.stack([np.cross(look, up), look, up])
    T[:3, 3] = -T[:3, :3] @ at
    return T
