"""Capture folders: one pass as a manifest beside depth and colour images, or the same as a .zip."""

import json
import os
import shutil
import stat
import tempfile
import zipfile
from collections import OrderedDict
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image, UnidentifiedImageError

from lucid_relic.errors import InputError
from lucid_relic.geometry.rigid import about_axis, inverse
from lucid_relic.io.files import replacing
from lucid_relic.io.manifest import Manifest, parse_manifest
from lucid_relic.progress import Progress, silent
from lucid_relic.types import Camera, Part, PassState

MANIFEST_NAME = "capture.json"
HEAD_NAME, LINES_NAME = "capture.head.json", "capture.frames.jsonl"  # of a capture under way
MAX_UNPACKED_BYTES = 8 * 1024**3  # of one capture
MAX_RATIO = 100  # of unpacked to packed: images shrink ten times at the most
RATIO_FREE_BYTES = 20 * 1024**2  # below which the ratio is not asked: empty depth images pack well
MAX_ENTRIES = 60_000  # files in one archive: three for each of the most frames
RECENT_BYTES = 96 * 2**20  # of depth images held: 150 frames of 640×480
DEPTH_MODES = ("I;16", "I;16B", "I;16L", "I")  # of Pillow for 16-bit greyscale


class CaptureFolder:
    """A capture folder on disk; reads one image at a time (a `FrameSource`)."""

    def __init__(self, root: str | Path, key: str | None = None) -> None:
        self.root = Path(root)
        self.key = key or str(self.root.resolve())
        self.manifest: Manifest = parse_manifest(_manifest_text(self.root))
        self._recent: OrderedDict[int, np.ndarray] = OrderedDict()

    def __getstate__(self) -> dict[str, Any]:
        """What travels to another process: all but the images held in memory."""
        return {**self.__dict__, "_recent": OrderedDict()}

    def depth(self, index: int, part: Part | None = None) -> np.ndarray:
        """(h, w) float32 mm of the whole image or a part; raises `InputError` naming the file when it cannot be used.

        The images read last are held, up to `RECENT_BYTES`, since most stages ask for them in turn.
        """
        raw = self._recent.pop(index, None)
        if raw is None:
            raw = self._raw_depth(index)
            while self._recent and (len(self._recent) + 1) * raw.nbytes > RECENT_BYTES:
                self._recent.popitem(last=False)
        self._recent[index] = raw
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
        """(h, w, 3) uint8 sRGB of the whole photograph or a part, or None when the frame has no photograph."""
        name = self.manifest.frames[index].colour
        if name is None:
            return None
        camera = self.manifest.colour_camera or self.manifest.camera
        image = self._open(name, camera, "colour")
        if part is not None:
            rows, columns = part
            image = image.crop((columns.start, rows.start, columns.stop, rows.stop))
        return np.asarray(image if image.mode == "RGB" else image.convert("RGB"))

    def _open(self, name: str, camera: Camera, what: str) -> Image.Image:
        path = self.root / name
        if not path.is_file():
            raise InputError(f"{name}: the manifest names this {what} image but the file is missing")
        try:
            with path.open("rb") as source, Image.open(source) as image:
                if image.size != (camera.width, camera.height):
                    raise InputError(
                        f"{name}: the {what} image is {image.width}×{image.height} pixels, "
                        f"the manifest says {camera.width}×{camera.height}"
                    )
                image.load()
                return image
        except (UnidentifiedImageError, OSError, SyntaxError, Image.DecompressionBombError):
            raise InputError(f"{name}: this {what} image is damaged or not an image") from None

    def check(self, progress: Progress = silent) -> None:
        """Open every image once, so that a fault is found before anything is kept."""
        total = len(self.manifest.frames)
        for index in range(total):
            progress(index / total, f"Checking frame {index + 1} of {total}")
            self.depth(index)
            self.colour(index)

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
            frame_in=np.ones(count, bool),
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
    up = m.turntable.axis_direction * (-1.0 if m.turntable.axis_direction[2] > 0.1 else 1.0)
    look = np.array([0.0, 0.0, 1.0]) - up * up[2]
    if np.linalg.norm(look) < 1e-3:
        return np.eye(4)
    look /= np.linalg.norm(look)
    T_table_camera = np.eye(4)
    T_table_camera[:3, :3] = np.stack([np.cross(look, up), look, up])
    T_table_camera[:3, 3] = -T_table_camera[:3, :3] @ m.turntable.axis_point
    turned_back = about_axis(m.turntable.axis_point, m.turntable.axis_direction, -np.radians(m.turntable.degrees[0]))
    return T_table_camera @ turned_back @ inverse(poses[0])


def _mode_name(mode: str) -> str:
    return {"L": "8-bit greyscale", "RGB": "8-bit colour", "P": "8-bit palette"}.get(mode, mode)


def _initial_poses(m: Manifest) -> tuple[np.ndarray, bool]:
    if m.turntable is not None:
        table = m.turntable
        turned = [about_axis(table.axis_point, table.axis_direction, -a) for a in np.radians(table.degrees)]
        poses = np.stack(turned)
        if m.frames[0].pose is not None:
            poses = m.frames[0].pose @ inverse(poses[0]) @ poses
        return poses, True
    given = [f.pose for f in m.frames]
    if all(p is not None for p in given):
        return np.stack(given), True
    return np.repeat(np.eye(4)[None], len(given), axis=0), False


def open_capture(path: str | Path, scratch: str | Path | None = None) -> CaptureFolder:
    """Open a capture folder or a .zip of one; a zip is unpacked into `scratch`, checked first."""
    path = Path(path)
    if path.is_dir():
        return CaptureFolder(path)
    if not path.exists():
        raise InputError(f"{path}: there is no such file or folder")
    target = Path(scratch) if scratch else Path(tempfile.mkdtemp(prefix="lucid-relic-"))
    return CaptureFolder(unpack_capture(path, target))


def unpack_capture(archive: str | Path, target: str | Path, progress: Progress = silent) -> Path:
    """Unpack a capture .zip into `target`, all or nothing; returns the folder of the manifest.

    Names, count, size and compression ratio are checked before anything is written.
    """
    archive, target = Path(archive), Path(target)
    try:
        with zipfile.ZipFile(archive) as bundle:
            entries = _checked_entries(archive.name, bundle)
            return _extract(archive.name, bundle, entries, target, progress)
    except (zipfile.BadZipFile, NotImplementedError, RuntimeError, EOFError, zipfile.LargeZipFile):
        raise InputError(f"{archive.name}: this is not a .zip file that can be read") from None


def _checked_entries(name: str, bundle: zipfile.ZipFile) -> list[zipfile.ZipInfo]:
    entries = [e for e in bundle.infolist() if not e.is_dir()]
    if len(entries) > MAX_ENTRIES:
        raise InputError(f"{name}: {len(entries)} files inside; at most {MAX_ENTRIES} are unpacked")
    for entry in entries:
        parts = entry.filename.replace("\\", "/").split("/")
        if entry.filename.startswith("/") or ".." in parts or ":" in entry.filename:
            raise InputError(f"{name}: the entry “{entry.filename}” points outside the folder; nothing was unpacked")
        if stat.S_ISLNK(entry.external_attr >> 16):
            raise InputError(f"{name}: the entry “{entry.filename}” is a link; nothing was unpacked")
    size = sum(e.file_size for e in entries)
    packed = max(sum(e.compress_size for e in entries), 1)
    if size > MAX_UNPACKED_BYTES or (size > RATIO_FREE_BYTES and size / packed > MAX_RATIO):
        raise InputError(
            f"{name}: would unpack to {size / 1e9:.1f} GB from {packed / 1e6:.1f} MB, "
            "far more than images shrink; nothing was unpacked"
        )
    if not any(e.filename.split("/")[-1] == MANIFEST_NAME for e in entries):
        raise InputError(f"{name}: there is no {MANIFEST_NAME} inside; this is not a capture")
    return entries


def _extract(
    name: str,
    bundle: zipfile.ZipFile,
    entries: list[zipfile.ZipInfo],
    target: Path,
    progress: Progress,
) -> Path:
    manifests = [e.filename for e in entries if e.filename.split("/")[-1] == MANIFEST_NAME]
    prefix = min(manifests, key=len)[: -len(MANIFEST_NAME)]
    wanted = [e for e in entries if e.filename.startswith(prefix)]
    target.mkdir(parents=True, exist_ok=True)
    staging = Path(tempfile.mkdtemp(prefix=".unpacking-", dir=target.parent))
    try:
        for done, entry in enumerate(wanted):
            progress(done / len(wanted), "Unpacking")
            _extract_one(name, bundle, entry, staging / entry.filename[len(prefix) :])
        shutil.rmtree(target)
        os.replace(staging, target)
    except BaseException:
        shutil.rmtree(staging, ignore_errors=True)
        shutil.rmtree(target, ignore_errors=True)
        raise
    return target


def _extract_one(name: str, bundle: zipfile.ZipFile, entry: zipfile.ZipInfo, path: Path) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    written = 0
    with bundle.open(entry) as source, path.open("wb") as sink:
        while chunk := source.read(1 << 20):
            written += len(chunk)
            if written > entry.file_size:
                raise InputError(f"{name}: “{entry.filename}” is larger than the archive says")
            sink.write(chunk)


class CaptureWriter:
    """Writes a capture folder frame by frame; `finish` writes the manifest.

    Until then the folder holds the manifest's head and one line for each frame, so that a frame costs the same however
    many there are, and a `CaptureFolder` can be opened on what is there already.
    """

    def __init__(self, root: str | Path, manifest: dict[str, Any]) -> None:
        self.root = Path(root)
        self.head = {k: v for k, v in manifest.items() if k != "frames"}
        self.count = 0
        (self.root / "depth").mkdir(parents=True, exist_ok=True)
        (self.root / "colour").mkdir(exist_ok=True)
        with replacing(self.root / HEAD_NAME) as out:
            out.write(json.dumps(self.head).encode())
        (self.root / LINES_NAME).write_bytes(b"")

    def add(self, depth_mm: np.ndarray, colour: np.ndarray | None, **fields: Any) -> int:
        """Write one frame's images and note its fields; returns its index."""
        index = self.count
        counts = np.clip(np.round(depth_mm / self.head["depth_unit_mm"]), 0, 65535).astype(np.uint16)
        entry: dict[str, Any] = {"depth": f"depth/{index:06d}.png"}
        Image.fromarray(counts).save(self.root / entry["depth"], compress_level=1)
        if colour is not None:
            entry["colour"] = f"colour/{index:06d}.jpg"
            Image.fromarray(colour).save(self.root / entry["colour"], quality=93, subsampling=0)
        with (self.root / LINES_NAME).open("ab") as lines:
            lines.write(json.dumps({**entry, **fields}).encode() + b"\n")
        self.count += 1
        return index

    def finish(self) -> None:
        """Write the whole manifest in one move; the folder is complete then."""
        manifest = {**self.head, "frames": _frame_lines(self.root)}
        with replacing(self.root / MANIFEST_NAME) as out:
            out.write(json.dumps(manifest, indent=1).encode())
        for name in (HEAD_NAME, LINES_NAME):
            (self.root / name).unlink()


def _frame_lines(root: Path) -> list[dict[str, Any]]:
    """The frames of a capture under way; a last line that is still being written is left for later."""
    text = (root / LINES_NAME).read_bytes()
    return [json.loads(line) for line in text[: text.rfind(b"\n") + 1].splitlines()]


def _manifest_text(root: Path) -> bytes:
    """The manifest of a complete folder or of one under way; raises `InputError` when there is neither."""
    try:
        return (root / MANIFEST_NAME).read_bytes()
    except (FileNotFoundError, NotADirectoryError):
        pass
    try:
        head = json.loads((root / HEAD_NAME).read_bytes())
        return json.dumps({**head, "frames": _frame_lines(root)}).encode()
    except (FileNotFoundError, NotADirectoryError):
        raise InputError(f"{root}: there is no {MANIFEST_NAME}; this is not a capture folder") from None
