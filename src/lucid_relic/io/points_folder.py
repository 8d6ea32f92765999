"""A pass of points as it is kept: a manifest beside its arrays, which are mapped and not read."""

import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

from lucid_relic.errors import InputError
from lucid_relic.io.bounded_json import parse_json
from lucid_relic.io.files import replacing
from lucid_relic.types import NO_CAMERA, MeasuredCloud, Part, PassState, PointCloud, Texture, TriangleMesh

POINTS_NAME = "points.json"
FORMAT, VERSION = "lucid-relic/points", 1
MAX_BYTES = 1 << 20
CLOUD, SURFACE, TEXTURE = ("points", "normals", "colours"), ("vertices", "faces", "vertex_colours"), ("image", "uv")
FIGURES = ("unit", "unit_from", "normals_from", "shared_frame", "spacing_mm")


class PointsFolder:
    """A folder of a pass of points; it stands for the source of a pass, and has no frames."""

    def __init__(self, root: str | Path, key: str | None = None) -> None:
        self.root = Path(root)
        self.key = key or str(self.root.resolve())
        with (self.root / POINTS_NAME).open("rb") as source:
            self.manifest: dict[str, Any] = parse_json(source.read(MAX_BYTES + 1), POINTS_NAME, MAX_BYTES)
        if self.manifest.get("format") != FORMAT or self.manifest.get("version") != VERSION:
            raise InputError(f"{POINTS_NAME}: this program reads {FORMAT}, version {VERSION}")

    def depth(self, index: int, part: Part | None = None) -> np.ndarray:
        """A pass of points has no frames: always raises `InputError`."""
        raise InputError(f"“{self.manifest['title']}” came as points and has no frames")

    def colour(self, index: int, part: Part | None = None) -> np.ndarray | None:
        """No photograph: a pass of points has none."""
        return None

    def as_pass(self) -> PassState:
        """The pass as it came: where its file put it, all points kept, not placed."""
        m = self.manifest
        arrays = {name: self._mapped(name) for name in (*CLOUD, *SURFACE, *TEXTURE)}
        surface = None
        if arrays["faces"] is not None:
            texture = None if arrays["image"] is None else Texture(arrays["image"], arrays["uv"], 1.0)
            surface = TriangleMesh(arrays["vertices"], arrays["faces"], arrays["vertex_colours"], texture=texture)
        cloud = MeasuredCloud(
            PointCloud(*(arrays[name] for name in CLOUD)),
            scanner=None if m["scanner_mm"] is None else np.array(m["scanner_mm"], np.float64),
            surface=surface,
            **{name: m[name] for name in FIGURES},
        )
        return PassState(
            title=m["title"],
            source=self,
            camera=NO_CAMERA,
            frame_poses=np.empty((0, 4, 4)),
            frame_in=np.empty(0, bool),
            fit_mm=np.empty(0, np.float32),
            posed=True,
            tracking="none",
            noise_mm=m["noise_mm"],
            cloud=cloud,
        )

    def _mapped(self, name: str) -> np.ndarray | None:
        path = self.root / f"{name}.npy"
        # A plain array over the mapped file: compiled loops know no other kind.
        return np.load(path, mmap_mode="r", allow_pickle=False).view(np.ndarray) if path.exists() else None


def write_points_folder(root: Path, title: str, cloud: MeasuredCloud, noise_mm: float, shift_mm: np.ndarray) -> None:
    """Keep a pass of points; the manifest is written last, so that a folder with one is whole.

    shift_mm (3,) is what was taken off the places of the file.
    """
    root.mkdir(parents=True, exist_ok=True)
    put: Callable[[str, np.ndarray | None], None] = lambda name, array: (  # noqa: E731
        None if array is None else np.save(root / f"{name}.npy", array, allow_pickle=False)
    )
    for name in CLOUD:
        put(name, getattr(cloud.cloud, name))
    surface = cloud.surface
    if surface is not None:
        for name, array in zip(SURFACE, (surface.vertices, surface.faces, surface.colours), strict=True):
            put(name, array)
        for name in TEXTURE if surface.texture is not None else ():
            put(name, getattr(surface.texture, name))
    manifest = {
        "format": FORMAT,
        "version": VERSION,
        "title": title,
        "count": len(cloud),
        "noise_mm": noise_mm,
        "scanner_mm": None if cloud.scanner is None else cloud.scanner.tolist(),
        "shift_mm": shift_mm.tolist(),
        **{name: getattr(cloud, name) for name in FIGURES},
    }
    with replacing(root / POINTS_NAME) as out:
        out.write(json.dumps(manifest, indent=1, allow_nan=False).encode())
