"""Standing up without a plate: objects turned at random, and how far off upright they stand."""

import time

import numpy as np
from hard_objects import KNOBBED, knobbed, organic, painted_vase
from scipy.spatial.transform import Rotation

from lucid_relic.demo.objects import DEMO_OBJECTS, demo_model
from lucid_relic.placement.stand_up import standing_motion
from lucid_relic.types import ScanState, TriangleMesh

Lines = list[str]
TURNS = 3
UPRIGHT_DEG = 1.0


def _objects() -> dict[str, TriangleMesh]:
    """Bodies that stand on z = 0 as they come: all of the demo, published meshes, and shapes by code."""
    made = {name: demo_model(name).mesh for name in DEMO_OBJECTS if name != "float-matted"}
    made |= {name: organic(name) for name in ("dragon", "bunny", "camel", "elephant", "bull", "hand")}
    made["painted vase"] = painted_vase().mesh
    return made | {name: knobbed(name).mesh for name in KNOBBED}


def stances() -> Lines:
    """How far off upright each stands by its flattest foot."""
    out = [
        "## Standing up without a plate",
        "",
        "| object | triangles | off upright (°) | seconds |",
        "|---|---|---|---|",
    ]
    upright = 0
    objects = _objects()
    for name, mesh in objects.items():
        off, began = [], time.perf_counter()
        for turn in Rotation.random(TURNS, random_state=4).as_matrix():
            lying = np.eye(4)
            lying[:3, :3], lying[:3, 3] = turn, [5, -200, 30]
            motion, _ = standing_motion(ScanState(mesh=mesh.transformed(lying)))
            off.append(np.degrees(np.arccos(np.clip((motion[:3, :3] @ turn)[2, 2], -1, 1))))
        took = (time.perf_counter() - began) / TURNS
        upright += max(off) <= UPRIGHT_DEG
        out.append(f"| {name} | {len(mesh.faces):,} | {max(off):.2f} | {took:.1f} |")
    return [*out, "", f"{upright} of {len(objects)} within {UPRIGHT_DEG:g}°."]
