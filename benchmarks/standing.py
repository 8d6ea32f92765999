"""Standing up without a plate: objects turned at random, and how far off upright they stand."""

import time

import numpy as np
import trimesh
from hard_objects import KNOBBED, knobbed, organic, painted_vase
from scipy.spatial import ConvexHull
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


def _up(mesh: TriangleMesh) -> np.ndarray:
    """(3,) what is up when it stands on a table, as near as can be to how its file has it: files stand roughly.

    A body stands on a face of its hull that its centre of mass lies over.
    """
    solid = trimesh.Trimesh(mesh.vertices, mesh.faces, process=False)
    centre = solid.center_mass if solid.is_watertight else solid.centroid
    hull = ConvexHull(mesh.vertices)
    best, up = -1.0, np.array([0.0, 0.0, 1.0])
    for corners, (*normal, away) in zip(hull.simplices, hull.equations, strict=True):
        foot = centre - (np.dot(normal, centre) + away) * np.array(normal)
        a, b, c = hull.points[corners]
        sides = [np.dot(np.cross(q - p, foot - p), np.cross(b - a, c - a)) for p, q in ((a, b), (b, c), (c, a))]
        if min(sides) >= -1e-9 and -normal[2] > best:
            best, up = -normal[2], -np.array(normal)
    return up


def stances() -> Lines:
    """How far off its stance on a table each stands by its flattest foot."""
    out = [
        "## Standing up without a plate",
        "",
        "Up is what is up where a body rests on a face of its hull, of those the one nearest to how its file has it.",
        "",
        "| object | triangles | its file off that (°) | off upright, worst of three turns (°) | seconds |",
        "|---|---|---|---|---|",
    ]
    upright = 0
    objects = _objects()
    for name, mesh in objects.items():
        up = _up(mesh)
        off, began = [], time.perf_counter()
        for turn in Rotation.random(TURNS, random_state=4).as_matrix():
            lying = np.eye(4)
            lying[:3, :3], lying[:3, 3] = turn, [5, -200, 30]
            motion, _ = standing_motion(ScanState(mesh=mesh.transformed(lying)))
            off.append(np.degrees(np.arccos(np.clip((motion[:3, :3] @ turn @ up)[2], -1, 1))))
        took = (time.perf_counter() - began) / TURNS
        upright += max(off) <= UPRIGHT_DEG
        file_off = np.degrees(np.arccos(np.clip(up[2], -1, 1)))
        out.append(f"| {name} | {len(mesh.faces):,} | {file_off:.2f} | {max(off):.2f} | {took:.1f} |")
    return [*out, "", f"{upright} of {len(objects)} within {UPRIGHT_DEG:g}°."]
