"""A sample of points, strokes and what they mark, written by the core: `python tests/marked_sample.py` makes it anew.

The front end marks the same points at once, in its own language; its tests read the same file.
"""

import json
from pathlib import Path
from typing import Any

import numpy as np

from lucid_relic.operations import get_operation
from lucid_relic.selection.marked import Marking

FILE = Path(__file__).parent / "data" / "marked.json"
VIEW = {
    "T_view_object": [[1, 0, 0, 0], [0, 0, -1, 0], [0, 1, 0, 150], [0, 0, 0, 1]],
    "fov_deg": 30.0,
    "width": 300,
    "height": 220,
}
SCREEN = {"radius_px": 0.0, "view": VIEW, "add": True, "through": False}
STROKES: list[list[dict[str, Any]]] = [
    [{"shape": "box", "points": [[60, 40], [250, 190]], **SCREEN}],
    [{"shape": "box", "points": [[60, 40], [250, 190]], **SCREEN, "through": True}],
    [{"shape": "lasso", "points": [[90, 60], [200, 70], [170, 110], [220, 170], [80, 150]], **SCREEN}],
    [
        {"shape": "polygon", "points": [[20, 20], [280, 20], [280, 200], [20, 200]], **SCREEN, "through": True},
        {"shape": "brush", "points": [[60, 110], [150, 100], [240, 120]], **SCREEN, "radius_px": 14.0, "add": False},
        {"shape": "ball", "centres": [[0, -20, 0], [10, -16, 6]], "radius_mm": 5.0, "add": True},
    ],
]
POINTS, SHEET, STEP = 1600, 30, 0.002


def sample() -> dict[str, Any]:
    """A ball of 20 mm before a sheet, in whole steps as the viewer has them, and the flags of every list of strokes."""
    n = np.arange(POINTS) + 0.5
    z, turn = 1 - 2 * n / POINTS, np.pi * (1 + 5**0.5) * n
    ball = np.column_stack([np.sqrt(1 - z**2) * np.cos(turn), np.sqrt(1 - z**2) * np.sin(turn), z])
    x, up = np.meshgrid(np.linspace(-30, 30, SHEET), np.linspace(-25, 25, SHEET))
    sheet = np.column_stack([x.ravel(), np.full(x.size, 35.0), up.ravel()])
    points = np.concatenate([20 * ball, sheet])
    normals = np.round(np.concatenate([ball, np.broadcast_to([0, -1, 0], sheet.shape)]) * 127)
    low = points.min(axis=0)
    whole = np.round((points - low) / STEP)
    places = whole * STEP + low
    flags = []
    for strokes in STROKES:
        marks = get_operation("take_away").parameters.from_dict({"marks": {"strokes": strokes}}).marks
        flags.append(Marking(marks, places, normals / 127, 1.8).marked(places, normals / 127).astype(int).tolist())
    cloud = {"count": len(points), "origin": low.tolist(), "step": STEP, "spacing": 1.8,
             "positions": whole.astype(int).ravel().tolist(), "normals": normals.astype(int).tolist()}  # fmt: skip
    return {"cloud": cloud, "strokes": STROKES, "flags": flags}


if __name__ == "__main__":
    FILE.parent.mkdir(exist_ok=True)
    FILE.write_text(json.dumps(sample(), separators=(",", ":")) + "\n")
