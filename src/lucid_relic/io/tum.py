"""RGB-D folders in the layout of the TUM RGB-D benchmark (Sturm et al. 2012, doi:10.1109/IROS.2012.6385773).

`depth.txt` and `rgb.txt` list a time and a file on each line; images belong together within 20 ms; depth is a 16-bit PNG of
5000 counts a metre; a trajectory, where there is one, lists time, place (metres) and quaternion x y z w of the camera.
The folder gets a `capture.json`, so that from there on it is a capture as any other.
"""

import json
from bisect import bisect_left
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image
from scipy.spatial.transform import Rotation

from lucid_relic.errors import InputError, quoted
from lucid_relic.io.capture_folder import MANIFEST_NAME
from lucid_relic.io.files import replacing
from lucid_relic.io.manifest import FORMAT, MAX_FRAMES, VERSION
from lucid_relic.types import Camera

DEPTH_LIST, COLOUR_LIST = "depth.txt", "rgb.txt"
TRAJECTORIES = ("trajectory.txt", "poses.txt", "groundtruth.txt")
WITHIN_S = 0.02  # as the benchmark's own association takes
DEPTH_UNIT_MM = 0.2  # 5000 counts a metre
MM_OF_METRE = 1000.0
# The default camera of the benchmark's page: what it recommends when no other is known.
FOCAL_SHARE, CENTRE = 525.0 / 640, (319.5 / 640, 239.5 / 480)
LENS = ("width", "height", "fx", "fy", "cx", "cy")  # fields of a camera in a manifest
MAX_LIST_BYTES = 8 * 2**20


@dataclass(frozen=True)
class Lens:
    """The camera of such a folder, in pixels; a size of 0 is that of its images."""

    fx: float
    fy: float
    cx: float
    cy: float
    width: int = 0
    height: int = 0

    def camera(self, size: tuple[int, int]) -> Camera:
        """As a camera for images of that size; raises `InputError` for numbers that cannot be."""
        return Camera(self.width or size[0], self.height or size[1], self.fx, self.fy, self.cx, self.cy)


def usual_lens(size: tuple[int, int]) -> Lens:
    """What stands in where nobody says: the benchmark's own, scaled to the images."""
    focal = FOCAL_SHARE * size[0]
    return Lens(focal, focal, CENTRE[0] * size[0], CENTRE[1] * size[1])


def is_tum(names: set[str]) -> bool:
    """Whether some file names are those of such a folder."""
    return DEPTH_LIST in names


def write_tum_manifest(root: Path, title: str, lens: Lens | None = None, depth_unit_mm: float = 0.0) -> None:
    """Give such a folder the manifest of a capture; raises `InputError` naming list and line.

    Without a lens the benchmark's own stands in; frames whose time is in no trajectory are found by tracking.
    """
    depth = _listed(root, DEPTH_LIST)
    if not depth:
        raise InputError(f"{DEPTH_LIST}: there is no image in this list")
    if len(depth) > MAX_FRAMES:
        raise InputError(f"{DEPTH_LIST}: {len(depth)} images; at most {MAX_FRAMES} are read")
    colour = _nearest(depth, _listed(root, COLOUR_LIST) if (root / COLOUR_LIST).exists() else [])
    poses = _nearest(depth, _trajectory(root))
    frames: list[dict[str, Any]] = []
    for (time, name), picture, pose in zip(depth, colour, poses, strict=True):
        entry: dict[str, Any] = {"depth": name, "time_s": time}
        if picture is not None:
            entry["colour"] = picture
        if pose is not None:
            entry["pose"] = pose
        frames.append(entry)
    size = _size(root, depth[0][1])
    camera = (lens or usual_lens(size)).camera(size)
    manifest = {
        "format": FORMAT,
        "version": VERSION,
        "title": title,
        "depth_unit_mm": depth_unit_mm or DEPTH_UNIT_MM,
        "camera": {**{n: getattr(camera, n) for n in LENS}, "distortion": list(camera.distortion)},
        "tracking": "shape",
        "frames": frames,
    }  # fmt: skip
    with replacing(root / MANIFEST_NAME) as out:
        out.write(json.dumps(manifest, indent=1).encode())


def named_files(lists: dict[str, bytes]) -> list[str]:
    """The images that the lists of such a folder name; raises `InputError` naming list and line."""
    return [
        name for title, text in lists.items() if title in (DEPTH_LIST, COLOUR_LIST) for _, name in _rows(title, text)
    ]


def _listed(root: Path, title: str) -> list[tuple[float, str]]:
    with (root / title).open("rb") as source:
        return sorted(_rows(title, source.read(MAX_LIST_BYTES + 1)))


def _rows(title: str, text: bytes) -> list[tuple[float, str]]:
    rows = []
    for number, fields in _lines(title, text):
        if len(fields) < 2:
            raise InputError(f"{title}, line {number}: must hold a time and the name of a file")
        rows.append((_numbers(title, number, fields[:1])[0], " ".join(fields[1:])))
    return rows


def _trajectory(root: Path) -> list[tuple[float, list[list[float]]]]:
    """Times and poses camera → pass (rows of 4, mm); empty without a trajectory."""
    title = next((t for t in TRAJECTORIES if (root / t).exists()), None)
    if title is None:
        return []
    out = []
    with (root / title).open("rb") as source:
        text = source.read(MAX_LIST_BYTES + 1)
    for number, fields in _lines(title, text):
        values = _numbers(title, number, fields)
        if len(values) != 8 or np.linalg.norm(values[4:]) < 1e-6:
            raise InputError(f"{title}, line {number}: must hold a time, a place and a quaternion: eight numbers")
        pose = np.eye(4)
        pose[:3, :3] = Rotation.from_quat(values[4:]).as_matrix()
        pose[:3, 3] = np.array(values[1:4]) * MM_OF_METRE
        out.append((values[0], pose.tolist()))
    return sorted(out, key=lambda row: row[0])


def _lines(title: str, text: bytes) -> list[tuple[int, list[str]]]:
    """The lines that are no comments, by number, cut into words."""
    if len(text) > MAX_LIST_BYTES:
        raise InputError(f"{title}: is larger than {MAX_LIST_BYTES / 1e6:.0f} MB")
    lines = text.decode("utf-8-sig", errors="replace").splitlines()
    return [(n, line.split()) for n, line in enumerate(lines, 1) if line.strip() and not line.strip().startswith("#")]


def _numbers(title: str, number: int, fields: list[str]) -> list[float]:
    try:
        values = [float(f) for f in fields]
    except ValueError:
        raise InputError(f"{title}, line {number}: {quoted(' '.join(fields))} is not a number") from None
    if not np.isfinite(values).all():
        raise InputError(f"{title}, line {number}: holds NaN or infinity")
    return values


def _nearest(depth: list[tuple[float, str]], others: list[tuple[float, Any]]) -> list[Any]:
    """For every depth image the entry nearest in time within `WITHIN_S`, each taken once; None where there is none."""
    times = [t for t, _ in others]
    pairs = []
    for k, (time, _) in enumerate(depth):
        at = bisect_left(times, time - WITHIN_S)
        while at < len(times) and times[at] <= time + WITHIN_S:
            pairs.append((abs(times[at] - time), k, at))
            at += 1
    found: list[Any] = [None] * len(depth)
    taken: set[int] = set()
    for _, k, at in sorted(pairs):
        if found[k] is None and at not in taken:
            found[k] = others[at][1]
            taken.add(at)
    return found


def _size(root: Path, first: str) -> tuple[int, int]:
    """Width and height of a depth image."""
    try:
        with Image.open(root / first, formats=("PNG",)) as image:
            return image.size
    except OSError:
        raise InputError(f"{first}: {DEPTH_LIST} names this depth image, but it is missing or no PNG") from None
