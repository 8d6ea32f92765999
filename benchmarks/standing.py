"""Standing up: objects turned at random, how far off upright they stand, without a plate and as the plate tells it."""

import time

import numpy as np
import trimesh
from hard import SMALL
from hard_objects import KNOBBED, knobbed, organic, painted_vase
from scanned import CACHE, written
from scipy.spatial import ConvexHull
from scipy.spatial.transform import Rotation

from lucid_relic.capture.model import ScanModel
from lucid_relic.capture.virtual import TurntablePlan, VirtualScanner
from lucid_relic.demo.objects import DEMO_OBJECTS, demo_model
from lucid_relic.geometry.rigid import inverse
from lucid_relic.io.capture_folder import CaptureFolder
from lucid_relic.operations import get_operation
from lucid_relic.placement.stand_up import standing_motion
from lucid_relic.progress import silent
from lucid_relic.types import ScanState, TriangleMesh

Lines = list[str]
TURNS = 3
UPRIGHT_DEG = 1.0
SIZE_MM = 100.0


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
    return [*out, "", f"{upright} of {len(objects)} within {UPRIGHT_DEG:g}°.", "", *_by_plate()]


def _by_plate() -> Lines:
    """Objects that lie on a plate in any way, scanned in twelve stops: how far their upright is off the plate's."""
    rng = np.random.default_rng(7)
    objects = _objects() | {"float-matted": demo_model("float-matted").mesh}
    rows, upright = [], 0
    for n, (name, mesh) in enumerate(objects.items()):
        plan = TurntablePlan(stops=12, tip_deg=float(rng.uniform(0, 180)), tip_about_deg=float(rng.uniform(0, 360)))
        scanner = VirtualScanner(ScanModel.plain(_sized(mesh)), plan, SMALL, 60 + n)
        state = ScanState((CaptureFolder(written(CACHE / "captures" / "stances" / name, scanner)).as_pass(),))
        steps = (
            ("place_frames", {}),
            ("stand_cut", {}),
            ("find_fit", {}),
            ("fuse", {"voxel_mm": 1.0}),
            ("stand_up", {}),
        )
        for step, given in steps:
            operation = get_operation(step)
            state, report = operation.run(state, operation.parameters(**given), silent)
        T_plate_object = scanner.T_plate_model @ scanner.truth_poses()[0] @ inverse(state.passes[0].T_object_camera(0))
        off = float(np.degrees(np.arccos(np.clip(T_plate_object[2, 2], -1, 1))))
        upright += off <= UPRIGHT_DEG and report["up_from"] == "plate"
        rows.append(f"| {name} | {plan.tip_deg:.0f} | {report['tilted_deg']:.0f} | {report['up_from']} | {off:.3f} |")
    return [
        "Scanned on a plate, laid on it in any way, twelve stops of 320×240: how far the result's upright is off the plate's.",
        "",
        "| object | tipped by (°) | tilted by stand up (°) | told by | off upright (°) |",
        "|---|---|---|---|---|",
        *rows,
        "",
        f"{upright} of {len(objects)} within {UPRIGHT_DEG:g}°.",
    ]


def _sized(mesh: TriangleMesh) -> TriangleMesh:
    """The mesh, as large as the demo's objects where it is not."""
    longest = float(np.ptp(mesh.vertices, axis=0).max())
    return mesh if 30 <= longest <= 200 else TriangleMesh(mesh.vertices * (SIZE_MM / longest), mesh.faces)
