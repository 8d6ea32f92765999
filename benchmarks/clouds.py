"""Part scans from any device: meshes cut into six overlapping parts, written in six formats, read back and put together.

Each part is what one direction sees of a scanned mesh, moved at random, its points off by 0.05 mm (100 mm across); one file is in metres.
"""

import tempfile
import time
from dataclasses import replace
from pathlib import Path

import numpy as np
from embreex import rtcore_scene
from embreex.mesh_construction import TriangleMesh as EmbreeMesh
from hard_objects import organic
from scanned import hippo_scans
from scipy.spatial import cKDTree
from scipy.spatial.transform import Rotation
from trimesh.remesh import subdivide_to_size

from lucid_relic.geometry.bvh import TriangleTree
from lucid_relic.geometry.pass_points import came_points
from lucid_relic.geometry.rigid import difference, inverse, transform_points
from lucid_relic.inspection.distance import sample_surface, summarise
from lucid_relic.inspection.mesh_check import check_mesh
from lucid_relic.io.arrivals import arrive, open_pass_folder
from lucid_relic.io.meshes import write_mesh, write_points
from lucid_relic.operations import get_operation
from lucid_relic.progress import silent
from lucid_relic.types import PointCloud, ScanState, TriangleMesh

DIRECTIONS = np.array([[1, 0, 0], [-1, 0, 0], [0, 1, 0], [0, -1, 0], [0, 0, 1], [0, 0, -1]], np.float64)
FACING = 0.2  # cosine to its direction that a part's triangles have at the least
NOISE_MM = 0.05
SPACING_MM = 0.8  # longest side of the parts' triangles: of a coarser mesh they are cut up
FORMATS = ("ply", "obj", "stl", "e57", "xyz", "ply")
METRES = 4  # the part whose file is in metres
SAMPLES = 100_000
NEAR_MM = 0.7  # of a part's points: what is judged was measured
STEPS = ("find_fit", "settle", "trim_fuzz", "fuse", "close", "largest_piece")
Lines = list[str]


def part(mesh: TriangleMesh, direction: np.ndarray) -> TriangleMesh:
    """What a far eye in that direction sees of a mesh."""
    scene = rtcore_scene.EmbreeScene()
    EmbreeMesh(scene, np.ascontiguousarray(mesh.corners, dtype=np.float32))
    normals = mesh.face_normals()
    facing = (normals @ direction) / np.maximum(np.linalg.norm(normals, axis=1), 1e-12)
    start = (mesh.face_centres() + 0.02 * direction).astype(np.float32)
    away = np.broadcast_to(direction.astype(np.float32), start.shape).copy()
    hidden = scene.run(start, away, query="OCCLUDED") >= 0
    return mesh.select_faces((facing > FACING) & ~hidden)


def part_files(mesh: TriangleMesh, folder: Path, bare: bool, seed: int) -> tuple[list[Path], list[np.ndarray]]:
    """The files of six part scans, and of each the true motion mesh → file in mm."""
    rng = np.random.default_rng(seed)
    files, motions = [], []
    corners, faces = subdivide_to_size(mesh.vertices, mesh.faces, SPACING_MM, max_iter=12)
    mesh = TriangleMesh(corners.astype(np.float32), faces.astype(np.int32))
    for k, (direction, kind) in enumerate(zip(DIRECTIONS, FORMATS, strict=True)):
        cut = part(mesh, direction)
        motion = np.eye(4)
        motion[:3, :3] = Rotation.random(random_state=int(rng.integers(1 << 30))).as_matrix()
        motion[:3, 3] = rng.uniform(-80, 80, 3)
        noisy = replace(cut, vertices=(cut.vertices + rng.normal(0, NOISE_MM, cut.vertices.shape)).astype(np.float32))
        moved = noisy.transformed(motion)
        scaled = moved.transformed(np.diag([1e-3, 1e-3, 1e-3, 1.0])) if k == METRES else moved
        path = folder / f"part {k + 1}.{'xyz' if bare and kind in ('obj', 'stl') else kind}"
        if bare or kind in ("e57", "xyz"):
            normals = None if bare or kind == "e57" else moved.vertex_normals()
            points = _precise(scaled, path)
            write_points(path, PointCloud(points, normals)) if k != METRES else _in_metres(path, points, normals)
        else:
            write_mesh(path, scaled)
        files.append(path)
        motions.append(motion)
    return files, motions


def _precise(mesh: TriangleMesh, path: Path) -> np.ndarray:
    return np.unique(mesh.vertices, axis=0) if path.suffix == ".stl" else mesh.vertices


def _in_metres(path: Path, points: np.ndarray, normals: np.ndarray | None) -> None:
    """Metres need more decimals than millimetres do."""
    columns = [points] if normals is None else [points, normals]
    np.savetxt(path, np.concatenate(columns, axis=1), "%.8f")


def put_together(files: list[Path], voxel_mm: float) -> tuple[ScanState, dict[str, float]]:
    """The state after the usual steps, and the seconds of each."""
    seconds = {}
    with tempfile.TemporaryDirectory() as scratch:
        begun = time.perf_counter()
        passes = [open_pass_folder(p) for k, f in enumerate(files) for p in arrive(f, Path(scratch) / str(k))]
        seconds["read"] = time.perf_counter() - begun
        state = ScanState((replace(passes[0], placed=True), *passes[1:]))
        for name in STEPS:
            begun = time.perf_counter()
            operation = get_operation(name)
            params = operation.parameters.from_dict({"voxel_mm": voxel_mm} if name == "fuse" else {})
            state, _ = operation.run(state, params, silent)
            seconds[name] = time.perf_counter() - begun
    return state, seconds


def worst_off(state: ScanState, motions: list[np.ndarray]) -> tuple[float, float]:
    """Degrees and mm that the farthest part lies off where it belongs, seen from the first."""
    T_object_mesh = state.passes[0].T_object_pass @ motions[0]
    off = [
        difference(T_object_mesh, p.T_object_pass @ m) for p, m in zip(state.passes, motions, strict=True) if p.placed
    ]
    return max(o[0] for o in off), max(o[1] for o in off)


def judged(state: ScanState, mesh: TriangleMesh, motion: np.ndarray) -> dict[str, float]:
    """Errors (mm) of the surface where some part measured it."""
    points = sample_surface(state.mesh, SAMPLES)
    measured = np.concatenate(
        [came_points(p, True, False).transformed(p.T_object_pass).points for p in state.used_passes()]
    )
    points = points[cKDTree(measured).query(points)[0] < NEAR_MM]
    back = transform_points(inverse(state.passes[0].T_object_pass @ motion), points.astype(np.float64))
    return summarise(TriangleTree(mesh).closest(back)[0])


def clouds() -> Lines:
    """Part scans of five objects with and without normals, and the two real scans."""
    out = [
        "Meshes 100 mm across cut into six parts (one for each direction of the axes), each moved at random, points off by 0.05 mm, "
        "as PLY, OBJ, STL, E57, XYZ (in metres), PLY; “bare” are points without normals, in the same order. Voxel 0.5 mm.",
        "",
        "| object | parts | placed | worst part off | mean / 95 % (mm) | watertight, pieces | seconds |",
        "|---|---|---|---|---|---|---|",
    ]
    for name in ("dragon", "bunny", "camel", "elephant", "fandisk"):
        mesh = organic(name)
        for bare in (False, True):
            with tempfile.TemporaryDirectory() as folder:
                files, motions = part_files(mesh, Path(folder), bare, 5)
                state, seconds = put_together(files, 0.5)
            error, off = judged(state, mesh, motions[0]), worst_off(state, motions)
            shape = check_mesh(state.mesh)
            out.append(
                f"| {name} | {'bare' if bare else 'with normals'} | {len(state.used_passes())} of {len(files)} | "
                f"{off[0]:.3f}°, {off[1]:.3f} mm | {error['mean_mm']:.3f} / {error['p95_mm']:.3f} | "
                f"{shape.watertight}, {shape.components} | {sum(seconds.values()):.0f} |"
            )
    return [*out, "", *_real_scans()]


def _real_scans() -> Lines:
    """The two scans of libcgal-demo, taken for metres: what is said in % of the size is so in any unit."""
    files = hippo_scans()
    state, seconds = put_together(files, 10.0)
    shape, tree = check_mesh(state.mesh), TriangleTree(state.mesh)
    size = float(np.ptp(state.mesh.vertices, axis=0).max())
    away = [
        np.median(tree.closest(came_points(p, True, False).transformed(p.T_object_pass).points)[0]) / size
        for p in state.used_passes()
    ]
    return [
        f"Two real scans (`hippo1.ply`, `hippo2.ply`), fused at 1 % of their size in {sum(seconds.values()):.0f} s: {len(away)} placed, watertight "
        f"{shape.watertight}, edge-manifold {shape.edge_manifold}, vertex-manifold {shape.vertex_manifold}, {shape.components} piece; half of "
        f"each scan's points lie within {away[0]:.2%} and {away[-1]:.2%} of the size.",
    ]
