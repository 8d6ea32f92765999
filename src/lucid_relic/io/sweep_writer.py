"""Writing a folder of line sweeps picture by picture."""

import json
from collections.abc import Iterable
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image

from lucid_relic.io.files import replacing
from lucid_relic.io.sweep_folder import FORMAT, SWEEP_NAME

QUALITY = 95


class SweepWriter:
    """Writes pictures of the corner and of sweeps; `finish` writes `sweep.json`."""

    def __init__(self, root: str | Path, title: str, corner: np.ndarray, camera: dict[str, Any] | None = None) -> None:
        self.root = Path(root)
        self.root.mkdir(parents=True, exist_ok=True)
        self._manifest: dict[str, Any] = {"format": FORMAT, "version": 1, "title": title, "sweeps": []}
        if camera is not None:
            self._manifest["camera"] = camera
        self._manifest["corner"] = self._save("corner.png", corner)

    def _save(self, name: str, picture: np.ndarray) -> str:
        (self.root / name).parent.mkdir(exist_ok=True)
        lossless = name.endswith(".png")
        Image.fromarray(picture).save(self.root / name, None if lossless else "JPEG", quality=QUALITY, subsampling=0)
        return name

    def sweep(self, photograph: np.ndarray | None, pictures: Iterable[np.ndarray]) -> None:
        """Write one sweep."""
        folder = f"{len(self._manifest['sweeps']):03d}"
        entry: dict[str, Any] = (
            {} if photograph is None else {"photograph": self._save(f"{folder}/photograph.jpg", photograph)}
        )
        entry["pictures"] = [self._save(f"{folder}/{k:04d}.jpg", picture) for k, picture in enumerate(pictures)]
        self._manifest["sweeps"].append(entry)

    def finish(self) -> None:
        """Write what belongs together; the folder is complete then."""
        with replacing(self.root / SWEEP_NAME) as out:
            out.write(json.dumps(self._manifest, indent=1).encode())
