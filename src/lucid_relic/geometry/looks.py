"""What was seen from where: the frames of a pass, or the one look of a scanner whose place is known.

Whoever asks what was looked through (free space) asks looks, whichever kind of pass they are from. A pass of points whose
scanner's place is not known saw nothing of the space around it, so it has none.
"""

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

import numpy as np

from lucid_relic.geometry import _cloud_kernels
from lucid_relic.geometry.rigid import inverse, transform_points
from lucid_relic.memo import remembered
from lucid_relic.types import Camera, PassState

PIXEL_SPACINGS = 2.0  # of the points, as wide as a pixel of a scanner's look: several points fall on each
WIDEST_DEG = 75.0  # from the middle of the look: what lies farther aside is not asked
LARGEST_LOOK = 4000  # pixels a side
FRAME_VOTES, SCANNER_VOTES = 1, 2  # of a look: a frame may be torn where a whole scan is not


@dataclass(frozen=True)
class Look:
    """T_pass_camera (4, 4), the camera, what it measured (h, w) float32 mm, and for how many frames it speaks."""

    T_pass_camera: np.ndarray
    camera: Camera
    depth: np.ndarray
    votes: int = FRAME_VOTES

    def T_camera_object(self, scan: PassState) -> np.ndarray:
        """(4, 4) object → camera of a look of that pass, where the pass is placed."""
        return inverse(scan.T_object_pass @ self.T_pass_camera)


def look_numbers(scan: PassState) -> np.ndarray:
    """Numbers of the looks of a pass: its frames that are in, or 0 for the look of its scanner."""
    if scan.cloud is None:
        return scan.frames_used()
    return np.zeros(0 if scan.cloud.scanner is None else 1, np.int64)


def looks(scan: PassState, numbers: Iterable[int] | None = None) -> Iterator[Look]:
    """The looks of a pass, one at a time; all, or those with some numbers."""
    for number in look_numbers(scan) if numbers is None else numbers:
        yield look(scan, int(number))


def look(scan: PassState, number: int) -> Look:
    """One look of a pass."""
    if scan.cloud is None:
        return Look(scan.frame_poses[number], scan.camera, scan.source.depth(number))
    return remembered(scan.cloud, "look", lambda: _scanner_look(scan))


def all_looks(passes: Iterable[PassState]) -> list[tuple[PassState, int]]:
    """(pass, number) of every look of some passes."""
    return [(scan, int(number)) for scan in passes for number in look_numbers(scan)]


def _scanner_look(scan: PassState) -> Look:
    """The points of a pass as its scanner saw them, from where it stood."""
    cloud = scan.cloud
    pose = np.eye(4)
    pose[:3, 3] = cloud.scanner
    ahead = cloud.cloud.points.mean(axis=0, dtype=np.float64) - cloud.scanner
    away = max(float(np.linalg.norm(ahead)), 1e-6)
    aside = np.cross(np.eye(3)[np.argmin(np.abs(ahead))], ahead / away)
    aside /= np.linalg.norm(aside)
    pose[:3, :3] = np.stack([aside, np.cross(ahead / away, aside), ahead / away], axis=1)
    seen = transform_points(inverse(pose), cloud.cloud.points).astype(np.float32)
    with np.errstate(divide="ignore", invalid="ignore"):
        slope = np.abs(seen[:, :2] / seen[:, 2:]).max(axis=1)
    reach = float(slope[(seen[:, 2] > 0) & (slope < np.tan(np.radians(WIDEST_DEG)))].max(initial=0.01))
    focal = away / (PIXEL_SPACINGS * cloud.spacing_mm)
    side = int(np.clip(2 * np.ceil(reach * focal) + 1, 8, LARGEST_LOOK))
    camera = Camera.centred(side, side, min(focal, (side - 1) / 2 / reach))
    depth = np.zeros((side, side), np.float32)
    _cloud_kernels.nearest_depths(seen, camera.as_vector, depth)
    return Look(pose, camera, depth, SCANNER_VOTES)
