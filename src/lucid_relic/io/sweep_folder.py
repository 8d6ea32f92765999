"""Sweep folders: pictures of a laser line before a corner, with `sweep.json` that says which belong together."""

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image

from lucid_relic.errors import InputError, quoted
from lucid_relic.io.bounded_json import parse_json
from lucid_relic.types import Camera

SWEEP_NAME, FORMAT = "sweep.json", "lucid-relic/sweep"
MAX_BYTES, MAX_PICTURES = 8 * 2**20, 40_000


@dataclass(frozen=True)
class OneSweep:
    """A photograph under plain light, or None, and the pictures of the line in their order; paths in the folder."""

    photograph: str | None
    pictures: tuple[str, ...]


@dataclass(frozen=True)
class SweepFolder:
    """corner is the picture of the corner with its boards; camera and walls (2, 4) n·p = d where they are known."""

    root: Path
    title: str
    corner: str | None
    boards: tuple[dict[str, Any], dict[str, Any]] | None
    camera: Camera | None
    walls: np.ndarray | None
    sweeps: tuple[OneSweep, ...]

    def picture(self, name: str) -> np.ndarray:
        """(h, w, 3) uint8; raises `InputError` that names the file."""
        path = self.root / name
        if not path.is_file():
            raise InputError(f"{name}: {SWEEP_NAME} names this picture but the file is missing")
        try:
            with path.open("rb") as source, Image.open(source, formats=("PNG", "JPEG")) as image:
                return np.asarray(image.convert("RGB"))
        except Exception:  # a damaged image makes the decoder raise whatever it likes
            raise InputError(f"{name}: this picture is damaged or not a PNG or JPEG") from None


def open_sweeps(root: str | Path) -> SweepFolder:
    """Read `sweep.json`; raises `InputError` that names what is wrong."""
    folder = Path(root)
    path = folder / SWEEP_NAME
    if not path.is_file():
        raise InputError(f"{folder.name}: there is no {SWEEP_NAME}; this is not a folder of line sweeps")
    with path.open("rb") as source:
        data = parse_json(source.read(MAX_BYTES + 1), SWEEP_NAME, MAX_BYTES)
    if not isinstance(data, dict) or data.get("format") != FORMAT:
        raise _wrong("format", f"must be “{FORMAT}”")
    entries = data.get("sweeps")
    if not isinstance(entries, list) or not entries:
        raise _wrong("sweeps", "must be a list of at least one sweep")
    sweeps = tuple(_sweep(entry, k) for k, entry in enumerate(entries))
    if sum(len(s.pictures) for s in sweeps) > MAX_PICTURES:
        raise _wrong("sweeps", f"name more than {MAX_PICTURES} pictures")
    walls = data.get("walls")
    if walls is not None:
        walls = _numbers(walls, (2, 4), "walls")
    corner = _name(data.get("corner"), "corner") if data.get("corner") is not None else None
    if corner is None and (walls is None or data.get("camera") is None):
        raise _wrong("corner", "is missing: a picture of the corner with its boards, or camera and walls as numbers")
    title = data.get("title", "line sweeps")
    if not isinstance(title, str) or not 0 < len(title) <= 200:
        raise _wrong("title", "must be text of 1 to 200 characters")
    return SweepFolder(folder, title, corner, _boards(data.get("boards")), _camera(data.get("camera")), walls, sweeps)


def _wrong(name: str, why: str) -> InputError:
    return InputError(f"{SWEEP_NAME}: {name} {why}")


def _sweep(entry: Any, k: int) -> OneSweep:
    if not isinstance(entry, dict) or not isinstance(entry.get("pictures"), list) or not entry["pictures"]:
        raise _wrong(f"sweeps[{k}].pictures", "must be a list of the pictures of one sweep")
    photograph = entry.get("photograph")
    return OneSweep(
        None if photograph is None else _name(photograph, f"sweeps[{k}].photograph"),
        tuple(_name(name, f"sweeps[{k}].pictures[{n}]") for n, name in enumerate(entry["pictures"])),
    )


def _name(value: Any, where: str) -> str:
    parts = value.replace("\\", "/").split("/") if isinstance(value, str) else []
    if not parts or not value.isprintable() or len(value) > 200 or any(p in ("", ".", "..") or ":" in p for p in parts):
        raise _wrong(where, f"must be a path inside the folder, not {quoted(str(value)[:60])}")
    return value


def _numbers(value: Any, shape: tuple[int, ...], where: str) -> np.ndarray:
    try:
        array = np.array(value, np.float64)
    except (TypeError, ValueError):
        array = np.empty(0)
    if array.shape != shape or not np.isfinite(array).all() or np.abs(array).max() > 1e6:
        raise _wrong(where, f"must be {' × '.join(map(str, shape))} finite numbers")
    return array


def _camera(value: Any) -> Camera | None:
    if value is None:
        return None
    if not isinstance(value, dict):
        raise _wrong("camera", "must be an object {…}")
    names = ("width", "height", "fx", "fy", "cx", "cy")
    numbers = _numbers([value.get(n) for n in names], (6,), "camera")
    distortion = _numbers(value.get("distortion", [0.0] * 5), (5,), "camera.distortion")
    fx, fy, cx, cy = (float(n) for n in numbers[2:])
    return Camera(int(numbers[0]), int(numbers[1]), fx, fy, cx, cy, tuple(float(k) for k in distortion))


def _boards(value: Any) -> tuple[dict[str, Any], dict[str, Any]] | None:
    """What the boards on the left and right wall are, as their own fields; None for those that ship."""
    if value is None:
        return None
    good = isinstance(value, list) and len(value) == 2 and all(isinstance(b, dict) for b in value)
    if not good:
        raise _wrong("boards", "must be the left and the right board, each an object {…}")
    known = {"columns": int, "rows": int, "square_mm": float, "marker_mm": float, "first_id": int}
    for k, board in enumerate(value):
        for name, number in board.items():
            if name not in known or isinstance(number, bool) or not isinstance(number, (int, float)):
                raise _wrong(f"boards[{k}].{name}", f"must be one of {', '.join(known)}, each a number")
    left, right = ({n: known[n](v) for n, v in board.items()} for board in value)
    return left, right
