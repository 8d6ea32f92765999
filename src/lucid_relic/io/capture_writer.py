"""Writing a capture folder frame by frame."""

import json
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image

from lucid_relic.io.capture_folder import HEAD_NAME, LINES_NAME, MANIFEST_NAME, frame_lines
from lucid_relic.io.files import replacing

MOST_COUNTS = np.iinfo(np.uint16).max


class CaptureWriter:
    """Writes a capture folder frame by frame; `finish` writes the manifest.

    Until then the folder holds the manifest's head and one line for each frame, so that a frame costs the same however
    many there are, and a `CaptureFolder` can be opened on what is there already. A writer on a folder that was left
    unfinished goes on behind its last whole frame.
    """

    def __init__(self, root: str | Path, manifest: dict[str, Any]) -> None:
        self.root = Path(root)
        self.head = {k: v for k, v in manifest.items() if k != "frames"}
        (self.root / "depth").mkdir(parents=True, exist_ok=True)
        (self.root / "colour").mkdir(exist_ok=True)
        with replacing(self.root / HEAD_NAME) as out:
            out.write(json.dumps(self.head).encode())
        self.count = self._write_lines(frame_lines(self.root))

    def _write_lines(self, lines: list[dict[str, Any]]) -> int:
        with replacing(self.root / LINES_NAME) as out:
            out.writelines(json.dumps(line).encode() + b"\n" for line in lines)
        return len(lines)

    def add(self, depth_mm: np.ndarray, colour: np.ndarray | None, **fields: Any) -> int:
        """Write one frame's images and note its fields; returns its index.

        Depths beyond the 16 bits of an image in this unit count as not measured.
        """
        index = self.count
        counts = np.round(depth_mm / self.head["depth_unit_mm"])
        counts = np.where((counts > 0) & (counts <= MOST_COUNTS), counts, 0).astype(np.uint16)
        entry: dict[str, Any] = {"depth": f"depth/{index:06d}.png"}
        Image.fromarray(counts).save(self.root / entry["depth"], compress_level=1)
        if colour is not None:
            entry["colour"] = f"colour/{index:06d}.jpg"
            Image.fromarray(colour).save(self.root / entry["colour"], quality=93, subsampling=0)
        with (self.root / LINES_NAME).open("ab") as lines:
            lines.write(json.dumps({**entry, **fields}).encode() + b"\n")
        self.count += 1
        return index

    def drop_last(self) -> None:
        """Forget the frame that was written last, if there is one."""
        self.keep_first(self.count - 1)

    def keep_first(self, count: int) -> None:
        """Forget all frames but the first so many."""
        self.count = self._write_lines(frame_lines(self.root)[: max(count, 0)])

    def note(self, fields: dict[int, dict[str, Any]]) -> None:
        """Note further fields of some frames; those that are None are taken away."""
        lines = [{**line, **fields.get(index, {})} for index, line in enumerate(frame_lines(self.root))]
        self._write_lines([{k: v for k, v in line.items() if v is not None} for line in lines])

    def frame(self, index: int) -> tuple[np.ndarray, np.ndarray | None]:
        """Depth (h, w) float32 mm and photograph (h, w, 3) uint8 of a frame that was written."""
        with Image.open(self.root / f"depth/{index:06d}.png") as image:
            depth = np.asarray(image, np.float32) * np.float32(self.head["depth_unit_mm"])
        path = self.root / f"colour/{index:06d}.jpg"
        if not path.is_file():
            return depth, None
        with Image.open(path) as image:
            return depth, np.asarray(image.convert("RGB"))

    def finish(self) -> None:
        """Write the whole manifest in one move; the folder is complete then."""
        manifest = {**self.head, "frames": frame_lines(self.root)}
        with replacing(self.root / MANIFEST_NAME) as out:
            out.write(json.dumps(manifest, indent=1).encode())
        for name in (HEAD_NAME, LINES_NAME):
            (self.root / name).unlink()
