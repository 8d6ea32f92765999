"""The manifest `capture.json` of a capture folder: parsing with a sentence for every fault."""

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from lucid_relic.errors import InputError, quoted
from lucid_relic.geometry.rigid import is_rigid, orthonormalised
from lucid_relic.io.bounded_json import parse_json
from lucid_relic.types import Camera, Turntable

FORMAT = "lucid-relic/capture"
VERSION = 1  # of the manifest that is read and written
TRACKING = ("turntable", "shape", "colour", "markers", "none")
MAX_FRAMES = 20_000  # of one capture: over twenty minutes by hand
MAX_BYTES = 24 * 2**20  # of a manifest: the most frames, each with pose and markers
MAX_PIXELS = 50_000_000  # of an image: more than any sensor of the field has
MAX_MARKERS, MAX_MARKER_ID = 500, 1_000_000
MAX_TITLE, MAX_PATH = 200, 200  # characters
FARTHEST_MM = 1e6  # of any place or length: a kilometre
DEPTH_UNITS_MM = (1e-6, 1e3)


@dataclass(frozen=True)
class FrameEntry:
    """One frame as the manifest names it; paths are relative to the folder.

    markers (n, 3) are the dots that it saw: u, v and number (-1 without one), or None when nothing is said of them.
    lost says why a frame was left out while the pass was followed; it stays out until it is found.
    """

    depth: str
    colour: str | None
    time_s: float
    turntable_deg: float | None
    pose: np.ndarray | None
    lost: str = ""
    markers: np.ndarray | None = None


@dataclass(frozen=True)
class Manifest:
    """A parsed `capture.json`; `raw` keeps every key, known or not."""

    title: str
    depth_unit_mm: float
    camera: Camera
    tracking: str
    turntable: Turntable | None
    colour_camera: Camera | None
    T_depth_colour: np.ndarray | None
    frames: tuple[FrameEntry, ...]
    colour_matrix: np.ndarray | None = None
    raw: dict[str, Any] = field(default_factory=dict)


class _Reader:
    """Reads typed fields and names the field in every complaint."""

    def __init__(self, data: Any, where: str) -> None:
        if not isinstance(data, dict):
            raise InputError(f"capture.json: {where or 'the file'} must be an object {{…}}")
        self.data = data
        self.where = where

    def name(self, key: str) -> str:
        return f"{self.where}.{key}" if self.where else key

    def fail(self, key: str, why: str) -> InputError:
        return InputError(f"capture.json: {self.name(key)} {why}")

    def get(self, key: str, kind: type, default: Any = ...) -> Any:
        value = self.data.get(key)
        if value is None:
            if default is ...:
                raise self.fail(key, "is missing")
            return default
        if kind is float and isinstance(value, int) and not isinstance(value, bool):
            value = float(value)
        if not isinstance(value, kind) or (kind is not bool and isinstance(value, bool)):
            raise self.fail(key, f"must be a {_KINDS[kind]}, not {type(value).__name__}")
        if isinstance(value, float) and not np.isfinite(value):
            raise self.fail(key, "must be a finite number, not NaN or infinity")
        return value

    def numbers(self, key: str, shape: tuple[int, ...], default: Any = ...) -> Any:
        value = self.data.get(key)
        if value is None:
            if default is ...:
                raise self.fail(key, "is missing")
            return default
        if not _has_shape(value, shape):
            wanted = "×".join(map(str, shape))
            raise self.fail(key, f"must be {wanted} numbers")
        array = np.array(value, dtype=np.float64)
        if not np.isfinite(array).all():
            raise self.fail(key, "holds NaN or infinity")
        if np.abs(array).max() > FARTHEST_MM:
            raise self.fail(key, f"holds a number beyond {FARTHEST_MM:.0e}")
        return array

    def pose(self, key: str) -> np.ndarray | None:
        matrix = self.numbers(key, (4, 4), None)
        if matrix is None:
            return None
        if not is_rigid(matrix):
            raise self.fail(key, "is not a rigid motion (rotation and translation, row-major 4×4)")
        return orthonormalised(matrix)


def _has_shape(value: Any, shape: tuple[int, ...]) -> bool:
    """Whether a value is nested lists of numbers of that shape; looked at before any array is made of it."""
    if not shape:
        return isinstance(value, (int, float)) and not isinstance(value, bool)
    return isinstance(value, list) and len(value) == shape[0] and all(_has_shape(v, shape[1:]) for v in value)


_KINDS = {float: "number", int: "whole number", str: "text", list: "list", dict: "object"}


def parse_manifest(text: str | bytes) -> Manifest:
    """Parse and check a manifest; raises `InputError` naming the field."""
    data = parse_json(text, "capture.json", MAX_BYTES, any_number=True)
    reader = _Reader(data, "")
    if reader.get("format", str) != FORMAT:
        raise reader.fail("format", f"must be “{FORMAT}”")
    if reader.get("version", int) != VERSION:
        raise reader.fail("version", f"is {data['version']}; this program reads version {VERSION}")
    unit = reader.get("depth_unit_mm", float)
    if not DEPTH_UNITS_MM[0] <= unit <= DEPTH_UNITS_MM[1]:
        low, high = DEPTH_UNITS_MM
        raise reader.fail("depth_unit_mm", f"must be greater than 0, from {low:g} to {high:g} mm")
    tracking = reader.get("tracking", str, "none")
    if tracking not in TRACKING:
        raise reader.fail("tracking", f"must be one of {', '.join(TRACKING)}, not {quoted(tracking)}")
    title = reader.get("title", str, "untitled pass")
    if len(title) > MAX_TITLE:
        raise reader.fail("title", f"has {len(title)} characters; at most {MAX_TITLE} are read")
    frames = _frames(reader)
    colour_camera, T_depth_colour = _colour_camera(data)
    return Manifest(
        title=title,
        depth_unit_mm=unit,
        camera=_camera(_Reader(data.get("camera"), "camera")),
        tracking=tracking,
        turntable=_turntable(data, tracking, frames),
        colour_camera=colour_camera,
        T_depth_colour=T_depth_colour,
        frames=frames,
        colour_matrix=_colour_matrix(data),
        raw=data,
    )


def _camera(reader: _Reader) -> Camera:
    width, height = reader.get("width", int), reader.get("height", int)
    if width * height > MAX_PIXELS:
        raise reader.fail("width", f"× height is {width * height / 1e6:.0f} megapixels; at most 50 are read")
    return Camera(
        width,
        height,
        reader.get("fx", float),
        reader.get("fy", float),
        reader.get("cx", float),
        reader.get("cy", float),
        tuple(reader.numbers("distortion", (5,), np.zeros(5)).tolist()),
    )


def _colour_matrix(data: dict[str, Any]) -> np.ndarray | None:
    """The colour card's matrix (3, 3), from photographed to true linear light."""
    if data.get("colour_correction") is None:
        return None
    return _Reader(data["colour_correction"], "colour_correction").numbers("matrix", (3, 3))


def _colour_camera(data: dict[str, Any]) -> tuple[Camera | None, np.ndarray | None]:
    if data.get("colour_camera") is None:
        return None, None
    reader = _Reader(data["colour_camera"], "colour_camera")
    pose = reader.pose("pose")
    return _camera(reader), np.eye(4) if pose is None else pose


def _frames(reader: _Reader) -> tuple[FrameEntry, ...]:
    entries = reader.get("frames", list)
    if not entries:
        raise reader.fail("frames", "is empty: a capture needs at least one frame")
    if len(entries) > MAX_FRAMES:
        raise reader.fail("frames", f"holds {len(entries)} frames; at most {MAX_FRAMES} are read")
    frames = tuple(_frame(_Reader(e, f"frames[{i}]"), i) for i, e in enumerate(entries))
    first: dict[str, str] = {}
    for i, frame in enumerate(frames):
        for key, name in (("depth", frame.depth), ("colour", frame.colour)):
            here = f"frames[{i}].{key}"
            if name is not None and first.setdefault(name, here) != here:
                raise InputError(f"capture.json: {here} names the file “{name}”, as {first[name]} does")
    return frames


def _frame(reader: _Reader, index: int) -> FrameEntry:
    return FrameEntry(
        depth=_safe_path(reader, "depth", reader.get("depth", str)),
        colour=_safe_path(reader, "colour", reader.get("colour", str, None)),
        time_s=reader.get("time_s", float, float(index)),
        turntable_deg=reader.get("turntable_deg", float, None),
        pose=reader.pose("pose"),
        lost=reader.get("lost", str, ""),
        markers=_markers(reader),
    )


def _markers(reader: _Reader) -> np.ndarray | None:
    told = reader.get("markers", list, None)
    if told is None:
        return None
    if len(told) > MAX_MARKERS:
        raise reader.fail("markers", f"holds {len(told)} markers; at most {MAX_MARKERS} are read")
    out = np.zeros((len(told), 3))
    for k, entry in enumerate(told):
        one = _Reader(entry, f"{reader.name('markers')}[{k}]")
        number = one.get("id", int, -1)
        if number < -1 or number > MAX_MARKER_ID:
            raise one.fail("id", f"must be a number from 0 to {MAX_MARKER_ID}")
        out[k] = [one.numbers("u", ()), one.numbers("v", ()), number]
    return out


def _safe_path(reader: _Reader, key: str, path: str | None) -> str | None:
    if path is None:
        return None
    parts = path.replace("\\", "/").split("/")
    if not path or len(path) > MAX_PATH or not path.isprintable():
        raise reader.fail(key, f"must be the name of a file, of at most {MAX_PATH} characters that can be printed")
    if "" in parts or "." in parts or ".." in parts or ":" in path or parts == ["capture.json"]:
        raise reader.fail(key, f"must be a path inside the folder, not {quoted(path)}")
    return path


def _turntable(data: dict[str, Any], tracking: str, frames: tuple[FrameEntry, ...]) -> Turntable | None:
    if tracking != "turntable":
        return None
    reader = _Reader(data.get("turntable"), "turntable")
    direction = reader.numbers("axis_direction", (3,))
    length = np.linalg.norm(direction)
    if length < 1e-6:
        raise reader.fail("axis_direction", "has no length")
    missing = [i for i, f in enumerate(frames) if f.turntable_deg is None]
    if missing:
        raise InputError(f"capture.json: frames[{missing[0]}].turntable_deg is missing, and tracking is “turntable”")
    degrees = np.array([f.turntable_deg for f in frames], dtype=np.float64)
    if np.abs(degrees).max() > FARTHEST_MM:
        raise InputError(f"capture.json: frames[{np.abs(degrees).argmax()}].turntable_deg is no angle")
    return Turntable(reader.numbers("axis_point_mm", (3,)), direction / length, degrees)
