"""Capture folders: one pass as a manifest beside depth and colour images."""

import json
from collections import OrderedDict
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image

from lucid_relic.errors import InputError
from lucid_relic.geometry.rigid import about_axis, inverse, upright
from lucid_relic.io.manifest import MAX_BYTES, Manifest, parse_manifest
from lucid_relic.light.srgb import LINEAR, to_srgb
from lucid_relic.progress import Progress, silent
from lucid_relic.types import Camera, Part, PassState

MANIFEST_NAME = "capture.json"
HEAD_NAME, LINES_NAME = "capture.head.json", "capture.frames.jsonl"  # of a capture under way
HELD_BYTES = 96 * 2**20  # of depth images, and as much of photographs: 150 and 100 frames of 640×480
IMAGE_FORMATS = ("PNG", "JPEG")
DEPTH_MODES = ("I;16", "I;16B", "I;16L", "I")  # of Pillow for 16-bit greyscale


class Held:
    """The images read last, by the number of their frame, up to `HELD_BYTES`: most stages ask for all of them in turn."""

    def __init__(self) -> None:
        self._images: OrderedDict[int, np.ndarray] = OrderedDict()

    def image(self, index: int, read: Callable[[int], np.ndarray]) -> np.ndarray:
        """That of a frame, read where it is not held; not to be written to."""
        image = self._images.pop(index, None)
        if image is None:
            image = read(index)
            while self._images and (len(self._images) + 1) * image.nbytes > HELD_BYTES:
                self._images.popitem(last=False)
        self._images[index] = image
        return image


class CaptureFolder:
    """A capture folder on disk; reads one image at a time (a `FrameSource`)."""

    def __init__(self, root: str | Path, key: str | None = None) -> None:
        self.root = Path(root)
        self.key = key or str(self.root.resolve())
        self.manifest: Manifest = parse_manifest(_manifest_text(self.root))
        self._depths, self._photographs = Held(), Held()

    def __getstate__(self) -> dict[str, Any]:
        """What travels to another process: all but the images held in memory."""
        return {**self.__dict__, "_depths": Held(), "_photographs": Held()}

    def depth(self, index: int, part: Part | None = None) -> np.ndarray:
        """(h, w) float32 mm of the whole image or a part; raises `InputError` naming the file when it cannot be used."""
        raw = self._depths.image(index, self._raw_depth)
        wanted = raw if part is None else raw[part]
        return np.multiply(wanted, np.float32(self.manifest.depth_unit_mm), dtype=np.float32)

    def _raw_depth(self, index: int) -> np.ndarray:
        name = self.manifest.frames[index].depth
        image = self._open(name, self.manifest.camera, "depth")
        if image.mode not in DEPTH_MODES:
            raise InputError(f"{name}: depth must be a 16-bit greyscale PNG, this one is {_mode_name(image.mode)}")
        values = np.asarray(image)
        return values.astype(np.uint16, copy=False) if values.max(initial=0) < 1 << 16 else values

    def colour(self, index: int, part: Part | None = None) -> np.ndarray | None:
        """(h, w, 3) uint8 sRGB of the whole photograph or a part, or None when the frame has no photograph.

        Where a colour card was taken for the pass, its matrix is applied.
        """
        if self.manifest.frames[index].colour is None:
            return None
        raw = self._photographs.image(index, self._raw_colour)
        colour = raw if part is None else raw[part].copy()
        matrix = self.manifest.colour_matrix
        return colour if matrix is None else to_srgb(LINEAR[colour] @ matrix.T.astype(np.float32))

    def _raw_colour(self, index: int) -> np.ndarray:
        name = self.manifest.frames[index].colour
        assert name is not None
        image = self._open(name, self.manifest.colour_camera or self.manifest.camera, "colour")
        return np.asarray(image if image.mode == "RGB" else image.convert("RGB"))

    def marks(self, index: int) -> np.ndarray | None:
        """(n, 3) u, v and number of the marker dots that a frame is said to have seen; None when nothing is said."""
        return self.manifest.frames[index].markers

    def _open(self, name: str, camera: Camera, what: str) -> Image.Image:
        path = self.root / name
        if not path.is_file():
            raise InputError(f"{name}: the manifest names this {what} image but the file is missing")
        try:
            with path.open("rb") as source, Image.open(source, formats=IMAGE_FORMATS) as image:
                if image.size != (camera.width, camera.height):
                    raise InputError(
                        f"{name}: the {what} image is {image.width}×{image.height} pixels, "
                        f"the manifest says {camera.width}×{camera.height}"
                    )
                image.load()
                return image
        except InputError:
            raise
        except Exception:  # a damaged image makes the decoder raise whatever it likes
            raise InputError(f"{name}: this {what} image is damaged or not a PNG or JPEG") from None

    def check(self, progress: Progress = silent) -> None:
        """Open every image once, so that a fault is found before anything is kept."""
        total = len(self.manifest.frames)
        for index in range(total):
            progress(index / total, f"Checking frame {index + 1} of {total}")
            self.depth(index)
            self.colour(index)
        self.need_depth()

    def need_depth(self) -> None:
        """Raise `InputError` when no frame measured anything: such a pass is of no use."""
        frames = range(len(self.manifest.frames))
        if not any(self.depth(index).any() for index in frames):
            raise InputError(f"None of the {len(frames)} frames of this capture measured any depth.")

    def as_pass(self) -> PassState:
        """The pass at its start: approximate poses, nothing cleaned, not placed."""
        m = self.manifest
        poses, posed = _initial_poses(m)
        count = len(m.frames)
        return PassState(
            title=m.title,
            source=self,
            camera=m.camera,
            frame_poses=poses,
            frame_in=~_left_out(m),
            fit_mm=np.full(count, np.nan, np.float32),
            posed=posed,
            tracking=m.tracking,
            turntable=m.turntable,
            colour_camera=m.colour_camera,
            T_depth_colour=m.T_depth_colour,
            T_object_pass=_upright(m, poses),
        )


def _upright(m: Manifest, poses: np.ndarray) -> np.ndarray:
    """A first placement of a turntable pass: its axis upright through the origin, seen from the front.

    The axis may point either way, by the sense in which the table turns; the head is taken to look
    down on the table.
    """
    if m.turntable is None:
        return np.eye(4)
    stood = upright(m.turntable.axis_direction, m.turntable.axis_point)
    if stood is None:
        return np.eye(4)
    turned_back = about_axis(m.turntable.axis_point, m.turntable.axis_direction, -np.radians(m.turntable.degrees[0]))
    return stood @ turned_back @ inverse(poses[0])


def _mode_name(mode: str) -> str:
    return {"L": "8-bit greyscale", "RGB": "8-bit colour", "P": "8-bit palette"}.get(mode, mode)


def _initial_poses(m: Manifest) -> tuple[np.ndarray, bool]:
    if m.turntable is not None:
        table = m.turntable
        poses = about_axis(table.axis_point, table.axis_direction, -np.radians(table.degrees))
        if m.frames[0].pose is not None:
            poses = m.frames[0].pose @ inverse(poses[0]) @ poses
        return poses, True
    given, out = [f.pose for f in m.frames], _left_out(m)
    if all(p is not None or gone for p, gone in zip(given, out, strict=True)):
        return np.stack([np.eye(4) if p is None else p for p in given]), True
    return np.repeat(np.eye(4)[None], len(given), axis=0), False


def _left_out(m: Manifest) -> np.ndarray:
    """(n,) bool of frames that were lost while the pass was followed; none when all were."""
    lost = np.array([bool(f.lost) for f in m.frames])
    return lost & ~lost.all()


def frame_lines(root: Path) -> list[dict[str, Any]]:
    """The frames of a capture under way; a last line that is still being written is left for later."""
    path = root / LINES_NAME
    text = path.read_bytes() if path.exists() else b""
    return [json.loads(line) for line in text[: text.rfind(b"\n") + 1].splitlines()]


def _manifest_text(root: Path) -> bytes:
    """The manifest of a complete folder or of one under way; raises `InputError` when there is neither."""
    try:
        with (root / MANIFEST_NAME).open("rb") as source:
            return source.read(MAX_BYTES + 1)
    except (FileNotFoundError, NotADirectoryError):
        pass
    try:
        head = json.loads((root / HEAD_NAME).read_bytes())
        return json.dumps({**head, "frames": frame_lines(root)}).encode()
    except (FileNotFoundError, NotADirectoryError):
        raise InputError(f"{root.name}: there is no {MANIFEST_NAME}; this is not a capture folder") from None
