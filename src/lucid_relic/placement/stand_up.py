"""Stand up: find the motion that puts an object upright on z = 0, centred, front forward.

The way up is the plate's normal where a plate is known, else the principal axis (of the surface's
area) whose foot is flattest. The front stays where the first frame looked from.
"""

import numpy as np

from lucid_relic.errors import StepNotPossible
from lucid_relic.types import ScanState, TriangleMesh


def standing_motion(state: ScanState) -> tuple[np.ndarray, str]:
    """T_upright_object (4×4) and how the way up was found: "plate" or "principal axes"."""
    mesh = state.mesh
    if mesh is None or not len(mesh.faces):
        raise StepNotPossible("There is no mesh to stand up yet. Fuse first.")
    up, by = _way_up(state, mesh)
    front = _front(state, up)
    right = np.cross(front, up)
    rotation = np.stack([right, np.cross(up, right), up])
    turned = mesh.vertices @ rotation.T
    low, high = turned.min(axis=0), turned.max(axis=0)
    motion = np.eye(4)
    motion[:3, :3] = rotation
    motion[:3, 3] = [-(low[0] + high[0]) / 2, -(low[1] + high[1]) / 2, -low[2]]
    return motion, by


def _way_up(state: ScanState, mesh: TriangleMesh) -> tuple[np.ndarray, str]:
    for scan in state.used_passes():
        if scan.plate is not None:
            up = scan.T_object_pass[:3, :3] @ scan.plate[:3]
            return up / np.linalg.norm(up), "plate"
    return _flattest_axis(mesh), "principal axes"


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
    return best


def _front(state: ScanState, up: np.ndarray) -> np.ndarray:
    """Horizontal direction that is to become +y: away from the camera of the first frame."""
    seen = next(((p, i) for p in state.used_passes() for i in p.frames_used()), None)
    look = seen[0].T_object_camera(int(seen[1]))[:3, 2] if seen else np.array([0, 1.0, 0])
    front = look - up * (look @ up)
    if np.linalg.norm(front) < 1e-3:
        helper = np.array([1.0, 0, 0]) if abs(up[0]) < 0.8 else np.array([0, 1.0, 0])
        front = helper - up * (helper @ up)
    return front / np.linalg.norm(front)
