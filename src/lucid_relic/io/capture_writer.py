"""Writing a capture folder frame by frame."""

import json
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image

from lucid_relic.io.capture_folder import HEAD_NAME, LINES_NAME, MANIFEST_NAME, frame_lines
from lucid_relic.io.files import replacing


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
        lines = [json.dumps(line).encode() + b"\n" for line in frame_lines(self.root)]
        with replacing(self.root / LINES_NAME) as out:
            out.writelines(lines)
        self.count = len(lines)

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
        manifest = {**self.head, "frames": frame_lines(self.root)}
        with replacing(self.root / MANIFEST_NAME) as out:
            out.write(json.dumps(manifest, indent=1).encode())
        for name in (HEAD_NAME, LINES_NAME):
            (self.root / name).unlink()
