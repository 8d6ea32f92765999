"""The files that a finished run leaves: `report.json` and `placements.json`."""

import json
from pathlib import Path
from typing import Any

import numpy as np

from lucid_relic.inspection.mesh_check import check_mesh
from lucid_relic.io.files import replacing
from lucid_relic.types import ScanState


def write_json(path: str | Path, data: Any) -> None:
    """Write JSON in one move."""
    with replacing(path) as out:
        out.write((json.dumps(data, indent=1, allow_nan=False) + "\n").encode())


def run_report(state: ScanState, steps: list[dict[str, Any]]) -> dict[str, Any]:
    """The content of `report.json`; `steps` hold operation, parameters, seconds and report."""
    return {
        "steps": steps,
        "seconds": sum(s["seconds"] for s in steps),
        "result": check_mesh(state.mesh).as_dict() if state.mesh is not None else None,
        "made_up_area_fraction": state.mesh.made_up_area_fraction() if state.mesh else 0.0,
        "accepted": all(p.placed or p.off for p in state.passes),
        "not_placed": [p.title for p in state.passes if not (p.placed or p.off)],
    }


def placements(state: ScanState) -> dict[str, Any]:
    """The content of `placements.json`; a pass that is not placed has null for its placement."""
    return {
        "passes": [
            {
                "title": p.title,
                "T_object_pass": p.T_object_pass.tolist() if p.placed else None,
                "frames": [
                    pose.tolist() if inside else None for pose, inside in zip(p.frame_poses, p.frame_in, strict=True)
                ],
            }
            for p in state.passes
        ]
    }


def finite(value: Any) -> Any:
    """Plain JSON values: arrays as lists, infinities and NaN as None."""
    if isinstance(value, dict):
        return {k: finite(v) for k, v in value.items()}
    if isinstance(value, (list, tuple)):
        return [finite(v) for v in value]
    if isinstance(value, np.ndarray):
        return finite(value.tolist())
    if isinstance(value, np.generic):
        return finite(value.item())
    if isinstance(value, float) and not np.isfinite(value):
        return None
    return value
