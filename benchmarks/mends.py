"""Mending: damaged meshes repaired, holes closed beside Open3D's filling, a place fused finer, and the curve of a reduction."""

import sys
import time
from pathlib import Path

import numpy as np
import trimesh
from hard_objects import organic
from measure import measured, peak_mb
from scanned import Captured, captured
from scipy.spatial import cKDTree

from lucid_relic.capture.traits import ScannerTraits
from lucid_relic.demo.objects import demo_model
from lucid_relic.fusion.forecast import forecast_fusion
from lucid_relic.fusion.local_detail import with_local_detail
from lucid_relic.fusion.polygonise import polygonise_open
from lucid_relic.fusion.tsdf import fuse_volume
from lucid_relic.geometry.bvh import TriangleTree
from lucid_relic.geometry.rigid import inverse, transform_points
from lucid_relic.inspection.distance import sample_surface
from lucid_relic.inspection.mesh_check import check_mesh, face_components
from lucid_relic.io.capture_folder import CaptureFolder
from lucid_relic.mending.curve import deviation_curve, measure_off, read_off
from lucid_relic.mending.remesh import remesh
from lucid_relic.mending.repair import repair
from lucid_relic.mending.rims import close_rims, find_rims
from lucid_relic.mending.simplify import simplify
from lucid_relic.operations import get_operation
from lucid_relic.progress import silent
from lucid_relic.types import BallStroke, Marks, ScanState, TriangleMesh

sys.path.insert(0, str(Path(__file__).resolve().parents[1] / "tests"))
from damage import damaged

Lines = list[str]
DAMAGED = 100
MOST_FAULTS = 12
HOLES = 40
SMALL_HOLES = 3000
RADIUS = 50.0
SIZES = {"sphere": (3.0, 30.0), "torus": (3.0, 15.0), "bunny": (3.0, 30.0), "dragon": (3.0, 15.0)}
COARSE_MM = (0.8, 1.0)
FORECAST_MM = (1.0, 0.6, 0.4, 0.25)
LETTERS_MM = 6.0  # radius of the ball that is rolled over the lettering
SHARES = (0.37, 0.13, 0.06, 0.03, 0.011)


def _even(made: trimesh.Trimesh) -> TriangleMesh:
    return TriangleMesh(made.vertices.astype(np.float32), made.faces.astype(np.int32))


def _area(mesh: TriangleMesh) -> np.ndarray:
    out: np.ndarray = np.linalg.norm(mesh.face_normals(), axis=1)
    return out


def repairs() -> Lines:
    """Meshes with random faults: whether they end sound, and how much was changed beyond the damage."""
    whole = {
        "ball": _even(trimesh.creation.icosphere(4, 25)),
        "torus": _even(trimesh.creation.torus(30, 10, major_sections=120, minor_sections=48)),
        "box": _even(trimesh.creation.box((40, 30, 20)).subdivide().subdivide().subdivide().subdivide()),
        **{name: simplify(demo_model(name).mesh, 20_000).mesh for name in ("owl", "stamp")},
    }
    rows = {name: [0, 0, 0.0, 0.0] for name in whole}
    for seed in range(DAMAGED):
        name = list(whole)[seed % len(whole)]
        rng = np.random.default_rng(seed)
        broken, places, _ = damaged(whole[name], rng, int(rng.integers(1, MOST_FAULTS)))
        start = time.perf_counter()
        work = repair(broken)
        seconds = time.perf_counter() - start
        told = check_mesh(work.mesh)
        sound = told.watertight and told.edge_manifold and told.vertex_manifold and not told.self_intersections
        row = rows[name]
        row[0] += 1
        row[1] += bool(sound and told.volume_mm3 > 0)
        row[2] = max(row[2], _changed(whole[name], broken, work.mesh, places))
        row[3] += seconds
    lines = [f"| {n} | {c} | {ok} | {worst:.2%} | {s / c:.1f} |" for n, (c, ok, worst, s) in rows.items()]
    return [
        "## Repair",
        "",
        f"{DAMAGED} meshes with 1 to {MOST_FAULTS - 1} random faults of nine kinds (`tests/damage.py`). Changed: the larger share of the area of "
        "either surface that the other lacks, away from the damage.",
        "",
        "| object | damaged | closed, manifold, uncrossed, outwards | changed, at the most | s each |",
        "|---|---|---|---|---|",
        *lines,
        "",
    ]


def _changed(whole: TriangleMesh, broken: TriangleMesh, mended: TriangleMesh, places: np.ndarray) -> float:
    side = float(np.sqrt(2 * whole.area_mm2() / len(whole.faces)))
    finite = np.isfinite(broken.vertices[broken.faces]).all(axis=(1, 2))
    rest = TriangleMesh(np.nan_to_num(broken.vertices), broken.faces[finite])
    worst = 0.0
    for mesh, others in ((whole, [mended]), (mended, [whole, rest])):
        middles = mesh.face_centres().astype(np.float64)
        off = np.min([TriangleTree(other).closest(middles)[0] for other in others], axis=0) > 0.05 * side
        if len(places):
            off &= cKDTree(places).query(middles)[0] > 2.5 * side
        worst = max(worst, float(_area(mesh)[off].sum() / _area(mesh).sum()))
    return worst


def holes() -> Lines:
    """Patches against what was cut out, beside Open3D's filling; thousands of small holes at once."""
    import open3d as o3d

    rows = []
    for name, (least, most) in SIZES.items():
        mesh = _whole(name)
        rng = np.random.default_rng(1)
        shares, theirs, crossed, flat = [], [], 0, 0
        for k in range(HOLES):
            size = least + (most - least) * k / (HOLES - 1)
            place = mesh.face_centres()[rng.choice(len(mesh.faces), p=_area(mesh) / _area(mesh).sum())]
            holed, out = _cut(mesh, place.astype(np.float64), size)
            rims = find_rims(holed)
            if len(rims) != 1:
                continue
            closed, stayed = close_rims(holed, rims)
            lost = sample_surface(out, 3000)
            shares.append(_off(closed, len(holed.faces), lost) / rims[0].size_mm)
            crossed += TriangleTree(closed).crossings() > 0
            flat += stayed
            legacy = o3d.geometry.TriangleMesh(
                o3d.utility.Vector3dVector(holed.vertices.astype(float)), o3d.utility.Vector3iVector(holed.faces)
            )
            filled = o3d.t.geometry.TriangleMesh.from_legacy(legacy).fill_holes(hole_size=10 * size).to_legacy()
            full = TriangleMesh(np.asarray(filled.vertices, np.float32), np.asarray(filled.triangles, np.int32))
            theirs.append(_off(full, len(holed.faces), lost) / rims[0].size_mm)
        s, t = np.array(shares), np.array(theirs)
        rows.append(
            f"| {name} | {least:g}-{most:g} | {len(s)} | {s.mean():.2%} | {np.median(s):.2%} | {(s <= 0.03).sum()} | {crossed} | {flat} | "
            f"{t.mean():.2%} | {(t <= 0.03).sum()} |"
        )
    return [
        "## Holes",
        "",
        "Holes cut into whole meshes and closed as the surface bends: mean distance of what was cut out to the patch, as a share of the hole's size; "
        "beside `fill_holes` of Open3D, which spans them with triangles.",
        "",
        "| object | size, mm | holes | mean | median | within 3 % | crossing | laid flat | Open3D, mean | within 3 % |",
        "|---|---|---|---|---|---|---|---|---|---|",
        *rows,
        "",
        *_small_holes(),
        "",
    ]


def _whole(name: str) -> TriangleMesh:
    if name == "sphere":
        return _even(trimesh.creation.icosphere(6, RADIUS))
    if name == "torus":
        return _even(trimesh.creation.torus(30, 12, major_sections=320, minor_sections=128))
    return repair(remesh(repair(organic(name)).mesh, 0.6, silent)).mesh


def _cut(mesh: TriangleMesh, place: np.ndarray, size: float) -> tuple[TriangleMesh, TriangleMesh]:
    """A mesh without the sheet round a place, and that sheet."""
    away = np.linalg.norm(mesh.face_centres() - place, axis=1)
    near = np.flatnonzero(away <= size / 2)
    _, piece = face_components(mesh.faces[near])
    gone = np.zeros(len(mesh.faces), bool)
    gone[near[piece == piece[np.argmin(away[near])]]] = True
    return mesh.select_faces(~gone), mesh.select_faces(gone)


def _off(closed: TriangleMesh, first: int, lost: np.ndarray) -> float:
    """Mean distance (mm) of places that were cut out to the triangles from number `first` on."""
    patch = closed.select_faces(np.arange(len(closed.faces)) >= first)
    return float(TriangleTree(patch if len(patch.faces) else closed).closest(lost)[0].mean())


def _small_holes() -> Lines:
    ball = _even(trimesh.creation.icosphere(7, RADIUS))
    tree, used = cKDTree(ball.face_centres()), np.empty((0, 3))
    keep = np.ones(len(ball.faces), bool)
    rng = np.random.default_rng(0)
    while len(used) < SMALL_HOLES:
        place = rng.normal(size=3)
        place *= RADIUS / np.linalg.norm(place)
        if len(used) and np.linalg.norm(used - place, axis=1).min() < 1.6:
            continue
        used = np.vstack([used, place])
        keep[tree.query_ball_point(place, 0.55)] = False
    holed = ball.select_faces(keep)
    start = time.perf_counter()
    rims = find_rims(holed)
    closed, _ = close_rims(holed, rims)
    seconds = time.perf_counter() - start
    told = check_mesh(closed)
    off = np.abs(np.linalg.norm(closed.vertices, axis=1) - RADIUS).max()
    return [
        f"{len(rims)} small holes at once in a ball of {len(ball.faces)} triangles: {seconds:.1f} s, "
        f"{'closed' if told.watertight else 'not closed'}, {told.self_intersections} crossings, {off * 1000:.1f} µm off the ball at the most."
    ]


def local() -> Lines:
    """The stamp's lettering at half and a quarter of the voxel, beside the whole at that size; and the curve of a reduction."""
    mesh = demo_model("stamp").mesh
    made = captured("ghosts-stamp", mesh, traits=ScannerTraits(noise_mm=0.05))
    state = _settled(made)
    T = made.scanners[0].truth_poses()[0] @ inverse(state.passes[0].T_object_camera(0))
    truth = TriangleTree(mesh)

    def error(surface: TriangleMesh) -> float:
        v = transform_points(T, sample_surface(surface, 300_000))
        front = (np.abs(v[:, 0]) < 10) & (v[:, 1] < -10) & (v[:, 2] > 4) & (v[:, 2] < 18)
        return float(np.sqrt((truth.closest(v[front])[0] ** 2).mean()))

    memory = _memory(state, T)
    rows = []
    for voxel in COARSE_MM:
        coarse = polygonise_open(fuse_volume(state, voxel, silent))
        c = transform_points(T, coarse.face_centres().astype(np.float64))
        chosen = (np.abs(c[:, 0]) < 12) & (c[:, 1] < -9.8) & (c[:, 2] > 3) & (c[:, 2] < 19.2)
        for name, halvings in (("half", 1), ("quarter", 2)):
            fine = polygonise_open(fuse_volume(state, voxel / 2**halvings, silent, "crisp"))
            local, _ = with_local_detail(coarse, chosen, fine, voxel, halvings)
            rows.append(
                f"| {voxel:g} | {name} | {error(coarse):.4f} | {error(local):.4f} | {error(fine):.4f} | "
                f"{len(coarse.faces) // 1000} | {len(local.faces) // 1000} | {len(fine.faces) // 1000} |"
            )
    return [
        "## Local detail",
        "",
        "The stamp's front at 640×480, noise 0.05 mm: root mean square distance to the true lettering, mm, and thousands of triangles.",
        "",
        "| voxel, mm | there | coarse | with local detail | whole that fine | coarse | with local detail | whole |",
        "|---|---|---|---|---|---|---|---|",
        *rows,
        "",
        *memory,
        "",
        *_curves(),
    ]


def forecasts() -> Lines:
    """What a fusion is said to give and to take beforehand, against what came."""
    fuse = get_operation("fuse")
    rows = []
    for name in ("stamp", "owl", "bell"):
        made = captured(f"ghosts-{name}", demo_model(name).mesh, traits=ScannerTraits(noise_mm=0.05))
        state = _settled(made)
        for voxel in FORECAST_MM:
            told = forecast_fusion(state, voxel)
            parameters = fuse.parameters(voxel_mm=voxel)
            run = lambda state=state, parameters=parameters: fuse.run(state, parameters, silent)  # noqa: E731
            (fused, _), _, more = peak_mb(run)
            _, cost = measured(run, warm_up=False)
            came = len(fused.mesh.faces)
            rows.append(
                f"| {name} | {voxel:g} | {came // 1000} | {told.triangles / came - 1:+.0%} | {more:.0f} | "
                f"{told.memory_bytes / 1e6 / more - 1:+.0%} | {cost.wall:.1f} | {told.seconds / cost.wall - 1:+.0%} |"
            )
    return [
        "## Forecast of a fusion",
        "",
        "Thousands of triangles, memory besides what was there before (MB) and seconds that came, and how far the forecast was off.",
        "",
        "| object | voxel, mm | triangles | off | memory | off | seconds | off |",
        "|---|---|---|---|---|---|---|---|",
        *rows,
    ]


def _settled(made: Captured) -> ScanState:
    state = ScanState(tuple(CaptureFolder(f).as_pass() for f in made.folders))
    for step in ("place_frames", "stand_cut", "find_fit", "settle", "trim_fuzz"):
        operation = get_operation(step)
        state, _ = operation.run(state, operation.parameters(), silent)
    return state


def _memory(state: ScanState, T: np.ndarray) -> Lines:
    """What a process holds at the most while it fuses, and while it fuses the lettering finer."""
    over = transform_points(inverse(T), np.array([[x, -10.0, 11.0] for x in np.linspace(-8, 8, 5)]))
    marks = Marks((BallStroke(tuple((x, y, z) for x, y, z in over.tolist()), LETTERS_MM),))
    fuse, finer = get_operation("fuse"), get_operation("local_detail")
    rows = []
    for voxel in COARSE_MM:
        coarse = fuse.parameters(voxel_mm=voxel)
        (fused, _), peak, more = peak_mb(lambda coarse=coarse: fuse.run(state, coarse, silent))
        for name in ("half", "quarter"):
            there = finer.parameters(marks=marks, voxel=name)
            _, local, grew = peak_mb(lambda fused=fused, there=there: finer.run(fused, there, silent))
            rows.append(
                f"| {voxel:g} | {name} | {peak:.0f} | {local:.0f} | {local / peak:.2f} | {more:.0f} | {grew:.0f} |"
            )
    return [
        "The process's peak while the whole is fused and while the lettering is fused finer, and how far each lies over where it began, MB.",
        "",
        "| voxel, mm | there | fusing, peak | local detail, peak | ratio | fusing, more | local detail, more |",
        "|---|---|---|---|---|---|---|",
        *rows,
    ]


def _curves() -> Lines:
    rows = []
    for name in ("owl", "stamp"):
        mesh = demo_model(name).mesh
        curve = deviation_curve(mesh)
        for share in SHARES:
            count = int(share * len(mesh.faces))
            real, told = measure_off(mesh, simplify(mesh, count).mesh), read_off(curve, count)
            off = " | ".join(
                f"{getattr(told, kind) / max(getattr(real, kind), 1e-9) - 1:+.0%}"
                for kind in ("mean_mm", "p95_mm", "max_mm")
            )
            rows.append(f"| {name} | {count} | {real.mean_mm:.4f} | {off} |")
    return [
        "The deviation curve, read off, against a reduction of its own.",
        "",
        "| object | triangles | mean, mm | curve: mean | 95 % within | farthest |",
        "|---|---|---|---|---|---|",
        *rows,
        "",
    ]
