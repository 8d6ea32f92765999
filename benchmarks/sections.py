"""The measurements, one function a section; each returns the lines of its part of docs/benchmarks.md.

Reference libraries are measured in the same run on the same data: Open3D 0.20 (VoxelBlockGrid, FPFH with
RANSAC and ICP, quadric decimation), KISS-Matcher 1.0 with small_gicp 1.0, xatlas.
"""

import time
from collections.abc import Callable
from dataclasses import replace
from functools import partial
from typing import Any

import numpy as np
from accuracy import accuracy
from by_hand import by_hand
from clouds import clouds
from dust import dust
from following import following
from ghosts import ghosts
from hard import HARD
from hard_objects import KNOBBED, TWOFOLD, knobbed, organic, twofold
from live_kills import live_kills
from measure import measured, measured_in_turn
from mends import forecasts, holes, local, repairs
from previews import previews
from scanned import (
    PLACING,
    Captured,
    Lines,
    after,
    captured,
    common,
    hippo_scans,
    judged,
    npm_mesh,
    opened,
    random_part,
    table,
    three_passes,
)
from standing import stances
from times import times

from live import live
from lucid_relic.alignment.find_fit import find_fit
from lucid_relic.alignment.fit_result import Side
from lucid_relic.capture.model import ScanModel
from lucid_relic.capture.traits import ScannerTraits
from lucid_relic.colour.atlas import make_atlas
from lucid_relic.colour.flat import signed_area, stretch, true_shapes
from lucid_relic.demo import bell, owl
from lucid_relic.fusion.polygonise import polygonise_open
from lucid_relic.fusion.tsdf import fuse_volume
from lucid_relic.geometry.pass_points import pass_points
from lucid_relic.geometry.rigid import difference, inverse
from lucid_relic.geometry.spacing import pixel_spacing
from lucid_relic.inspection.distance import compare
from lucid_relic.inspection.mesh_check import check_mesh
from lucid_relic.io.meshes import read_points
from lucid_relic.mending.pieces import keep_largest
from lucid_relic.mending.simplify import simplify
from lucid_relic.operations import get_operation
from lucid_relic.operations.recipe import Recipe, built_in, run_recipe
from lucid_relic.progress import silent
from lucid_relic.types import ScanState, TriangleMesh, Volume

WHOLE = (
    ("dragon", 0.5, 4096),
    ("dragon", 0.5, 0),
    ("dragon", 0.25, 0),
    ("bunny", 0.5, 4096),
    ("bunny", 0.25, 0),
)


def whole_way() -> Lines:
    """Print recipe on two scanned meshes, with and without a texture of 4096."""
    rows = []
    for n, (name, voxel, texture) in enumerate(WHOLE):
        made = captured(name, npm_mesh(name))
        recipe = built_in("print").with_parameter("fuse", "voxel_mm", voxel)
        recipe = replace(recipe, steps=tuple(s for s in recipe.steps if texture or s.operation != "lay_colour"))
        if texture:
            recipe = recipe.with_parameter("lay_colour", "size", texture)

        def run(made: Captured = made, recipe: Recipe = recipe) -> ScanState:
            return run_recipe(opened(made), recipe, silent, lambda *_: None)

        state, cost = measured(run, warm_up=n == 0)
        e, r = judged(state, made), check_mesh(state.mesh)
        solid = r.watertight and r.edge_manifold and r.vertex_manifold
        rows.append(
            f"| {name} | {voxel} | {texture or '–'} | {e['mean_mm']:.3f} | {e['p95_mm']:.3f} | {e['turn_deg']:.4f} "
            f"| {e['shift_mm']:.3f} | {'yes' if solid else 'no'} | {r.components} | {r.self_intersections} "
            f"| {cost.wall:.0f} | {cost.peak_gb:.2f} |"
        )
    head = "| object | voxel mm | texture | mean mm | p95 mm | pass 2 off ° | off mm | closed manifold | pieces | crossings | s | peak GB so far |"
    return ["## Whole way: 48 raw frames to a print mesh", "", *table(head, rows)]


def fusion() -> Lines:
    """Volumes from 48 settled frames against Open3D's VoxelBlockGrid."""
    import open3d as o3d

    made = captured("dragon", npm_mesh("dragon"))
    state = after(opened(made), PLACING)

    def reference(voxel: float, half_pixel: float, coloured: bool) -> Any:
        core = o3d.core
        names, kinds, widths = ("tsdf", "weight"), (core.float32,) * 2, ((1,), (1,))
        if coloured:
            names, kinds, widths = (*names, "color"), (core.float32,) * 3, (*widths, (3,))
        grid = o3d.t.geometry.VoxelBlockGrid(names, kinds, widths, voxel, 8, 20000)
        for scan in state.passes:
            c = scan.camera
            K = core.Tensor([[c.fx, 0, c.cx + half_pixel], [0, c.fy, c.cy + half_pixel], [0, 0, 1.0]])
            for i in map(int, scan.frames_used()):
                depth = scan.source.depth(i)
                depth[~scan.keep_mask(i)] = 0
                image = o3d.t.geometry.Image(core.Tensor(depth))
                extrinsic = core.Tensor(inverse(scan.T_object_camera(i)))
                blocks = grid.compute_unique_block_coordinates(image, K, extrinsic, 1.0, 2000.0, 4.0)
                if coloured:
                    photo = o3d.t.geometry.Image(core.Tensor(scan.source.colour(i).astype(np.float32)))
                    grid.integrate(blocks, image, photo, K, K, extrinsic, 1.0, 2000.0, 4.0)
                else:
                    grid.integrate(blocks, image, K, extrinsic, 1.0, 2000.0, 4.0)
        return grid

    def reading() -> None:
        for scan in opened(made).passes:
            for index in map(int, scan.frames_used()):
                scan.source.depth(index)
                scan.source.colour(index)

    def surface(volume: Any) -> TriangleMesh:
        if isinstance(volume, Volume):
            return polygonise_open(volume)
        mesh = volume.extract_triangle_mesh(weight_threshold=1.0)
        return TriangleMesh(mesh.vertex.positions.numpy(), mesh.triangle.indices.numpy().astype(np.int32))

    rows = []
    for voxel in (0.5, 0.25):
        works: dict[str, Callable[[], Any]] = {
            f"ours, {character}": partial(fuse_volume, state, voxel, silent, character)
            for character in ("even", "crisp")
        }
        for half, coloured in ((0.0, False), (0.5, False), (0.5, True)):
            name = f"VoxelBlockGrid{' with colour' if coloured else ''}, centres at +{half}"
            works[name] = partial(reference, voxel, half, coloured)
        found = measured_in_turn(works)
        base = found["ours, even"][1].cpu
        for name, (volume, cost) in found.items():
            e = judged(replace(state, mesh=keep_largest(surface(volume))[0]), made)
            times = "" if name.startswith("ours") else f" (×{cost.cpu / base:.1f})"
            rows.append(
                f"| {voxel} | {name} | {cost.cpu:.2f}{times} | {cost.wall:.2f} | {e['mean_mm']:.3f} | {e['p95_mm']:.3f} |"
            )
    files = measured_in_turn({"reading": reading})["reading"][1].cpu
    note = (
        "From frames held in memory, where steps before left them, to a volume; drawing the surface out of it is not "
        f"counted, nor reading all images from their files, which both do alike in {files:.2f} s. "
        "Medians of seven runs in turn, all on one core. "
        "Ours computes normals and confidence too, and fuses colour, which "
        "the reference does in the last row of each size only. × is the reference's CPU time over ours (even)."
    )
    return ["## Fusion", "", note, "", *table("| voxel mm | | CPU s | wall s | mean mm | p95 mm |", rows)]


JUDGING = 0.8  # of find fit's progress: it has its best fits then, and asks what speaks against them


def fits() -> Lines:
    """Placing pass 2 of the dragon, and the two real scans, against two reference chains."""
    import kiss_matcher
    import open3d as o3d
    import small_gicp

    made = captured("dragon", npm_mesh("dragon"))
    state = after(opened(made), ("place_frames", "stand_cut"))
    sides = [Side(pass_points(p, 1.2 * pixel_spacing(p)), p) for p in state.passes]
    a, b = (s.cloud.points.astype(np.float64) for s in sides)
    truth = inverse(made.scanners[0].truth_poses()[0] @ inverse(state.passes[0].frame_poses[0]))
    truth = truth @ made.scanners[1].truth_poses()[0] @ inverse(state.passes[1].frame_poses[0])

    def kiss(fixed: np.ndarray, moving: np.ndarray, voxel: float) -> np.ndarray:
        found = kiss_matcher.KISSMatcher(kiss_matcher.KISSMatcherConfig(voxel)).estimate(
            moving.astype(np.float32), fixed.astype(np.float32)
        )
        start = np.eye(4)
        start[:3, :3], start[:3, 3] = np.array(found.rotation), np.array(found.translation).ravel()
        return small_gicp.align(
            fixed, moving, init_T_target_source=start, registration_type="GICP",
            downsampling_resolution=voxel / 3, max_correspondence_distance=2 * voxel, num_threads=2,
        ).T_target_source  # fmt: skip

    def ransac() -> np.ndarray:
        voxel, reg = 2.0, o3d.pipelines.registration
        clouds, features = [], []
        for side in sides:
            cloud = o3d.geometry.PointCloud(o3d.utility.Vector3dVector(side.cloud.points.astype(np.float64)))
            cloud.normals = o3d.utility.Vector3dVector(side.cloud.normals.astype(np.float64))
            down = cloud.voxel_down_sample(voxel)
            clouds.append(down)
            features.append(reg.compute_fpfh_feature(down, o3d.geometry.KDTreeSearchParamHybrid(5 * voxel, 100)))
        found = reg.registration_ransac_based_on_feature_matching(
            clouds[1], clouds[0], features[1], features[0], True, 1.5 * voxel,
            reg.TransformationEstimationPointToPoint(False), 3,
            [reg.CorrespondenceCheckerBasedOnEdgeLength(0.9), reg.CorrespondenceCheckerBasedOnDistance(1.5 * voxel)],
            reg.RANSACConvergenceCriteria(100000, 0.999),
        )  # fmt: skip
        plane = reg.TransformationEstimationPointToPlane()
        return reg.registration_icp(clouds[1], clouds[0], voxel, found.transformation, plane).transformation

    middle = made.mesh.vertices.mean(axis=0).astype(float)
    rows = []

    def row(name: str, motion: np.ndarray, seconds: float, base: float, verdict: str) -> None:
        off = motion @ inverse(truth)
        shift = np.linalg.norm(off[:3, :3] @ middle + off[:3, 3] - middle)
        rows.append(
            f"| dragon | {name} | {seconds:.2f} (×{seconds / base:.1f}) | {difference(off, np.eye(4))[0]:.3f} | {shift:.3f} | {verdict} |"
        )

    sought: list[float] = []

    def ours_timed() -> Any:
        begun = time.perf_counter()

        def progress(share: float, _: str) -> None:
            if share == JUDGING:
                sought.append(time.perf_counter() - begun)

        return find_fit(*sides, progress)

    found = measured_in_turn(
        {
            "find fit, with verdict": ours_timed,
            "KISS-Matcher + small_gicp": lambda: kiss(a, b, 2.0),
            "Open3D FPFH-RANSAC + ICP": ransac,
        }
    )
    base = found["KISS-Matcher + small_gicp"][1].wall
    for name, (fit, cost) in found.items():
        motion, verdict = fit, "none given"
        if name.startswith("find fit"):
            motion, verdict = fit.T_fixed_moving, "accepted" if fit.accepted else fit.reason
        row(name, motion, cost.wall, base, verdict)
    seeking = float(np.median(sought[1:]))
    rows.insert(1, f"| dragon | of that until the best fits are found | {seeking:.2f} (×{seeking / base:.1f}) | | | |")
    one, two = (read_points(p) for p in hippo_scans())
    size = float(np.linalg.norm(np.ptp(one.points, axis=0)))
    p, q = one.points.astype(np.float64), two.points.astype(np.float64)
    found = measured_in_turn(
        {"ours": lambda: find_fit(Side(one), Side(two), silent), "other": lambda: kiss(p, q, size / 60)}
    )
    (ours, cost), (other, cost_o) = found["ours"], found["other"]
    rows.append(
        f"| hippo | find fit, with verdict | {cost.wall:.2f} (×{cost.wall / cost_o.wall:.1f}) | – | – "
        f"| accepted, rms {ours.rms_mm / size:.2%} of size |"
    )
    turn, shift = difference(ours.T_fixed_moving, other)
    rows.append(
        f"| hippo | KISS-Matcher + small_gicp | {cost_o.wall:.2f} (×1.0) | {turn:.2f} from ours | {shift / size:.2%} of size from ours | |"
    )
    note = (
        "Medians of seven runs in turn, on two threads. The references end where ours begins to refine finely, to look "
        "for rivals and to judge. × is the time over that of KISS-Matcher + small_gicp."
    )
    return ["## Find fit", "", note, "", *table("| scans | | wall s | off ° | off mm | verdict |", rows)]


def meshes() -> Lines:
    """Simplifying against Open3D, charts and packing against plain xatlas."""
    import open3d as o3d
    import xatlas

    made = captured("dragon", npm_mesh("dragon"))
    state = after(opened(made), PLACING)
    fuse, close = get_operation("fuse"), get_operation("close")
    state, _ = fuse.run(state, fuse.parameters(voxel_mm=0.5), silent)
    state, _ = close.run(state, close.parameters(), silent)
    mesh, _ = keep_largest(state.mesh)
    rows = []
    for target in (300_000, 100_000, 20_000):
        ours, cost = measured(lambda target=target: simplify(mesh, target).mesh)
        source = o3d.geometry.TriangleMesh(
            o3d.utility.Vector3dVector(mesh.vertices.astype(np.float64)), o3d.utility.Vector3iVector(mesh.faces)
        )
        other, cost_o = measured(lambda target=target, source=source: source.simplify_quadric_decimation(target), False)
        theirs = TriangleMesh(np.asarray(other.vertices, np.float32), np.asarray(other.triangles, np.int32))
        for name, m, c in (("ours", ours, cost), ("Open3D", theirs, cost_o)):
            d, r = compare(m, mesh, 100_000), check_mesh(m)
            solid = r.watertight and r.vertex_manifold
            rows.append(
                f"| {len(mesh.faces):,} → {len(m.faces):,} | {name} | {c.wall:.1f} | {d['mean_mm']:.4f} | {d['p95_mm']:.4f} "
                f"| {'yes' if solid else 'no'} | {r.self_intersections} |"
            )
    head = "| triangles | | wall s | mean mm | p95 mm | closed manifold | crossings |"
    lines = ["## Simplify", "", *table(head, rows)]
    rows = []
    for count in (12_000, 50_000, 300_000):
        small = simplify(mesh, count).mesh
        for size in (1024, 4096):
            atlas, cost = measured(lambda small=small, size=size: make_atlas(small, size), warm_up=size == 1024)
            charts = len(np.unique(atlas.chart))
            rows.append(f"| {count:,} | {size} | ours | {cost.wall:.1f} | {charts} | {drawn(small, atlas.uv, size)} |")
        if count > 50_000:
            continue

        def plain(small: TriangleMesh = small) -> xatlas.Atlas:
            out = xatlas.Atlas()
            out.add_mesh(small.vertices, small.faces.astype(np.uint32))
            options = xatlas.PackOptions()
            options.resolution, options.padding = 4096, 2
            out.generate(pack_options=options)
            return out

        other, cost = measured(plain, warm_up=False)
        _, corners, uv = other[0]
        uv = uv[corners].astype(float) * [other.width, other.height]
        figures = drawn(small, uv, max(other.width, other.height))
        rows.append(f"| {count:,} | 4096 | xatlas | {cost.wall:.1f} | {other.chart_count} | {figures} |")
    head = "| triangles | texels | | wall s | charts | stretch, median | 95 % | square covered |"
    note = "Stretch is how many times too long or too short a triangle is drawn at most, by area."
    return [*lines, "## Texture atlas", "", note, "", *table(head, rows)]


def drawn(mesh: TriangleMesh, uv: np.ndarray, size: int) -> str:
    """Columns of a table: median and 95 % of the stretch by area, and the share of the square that is covered."""
    flat_area = signed_area(uv)
    covered = np.abs(flat_area).sum()
    area = np.linalg.norm(mesh.face_normals(), axis=1) / 2
    to_left = np.where(flat_area < 0, -1.0, 1.0)[:, None]
    turned = np.stack([uv[:, :, 0] * to_left, uv[:, :, 1]], axis=2) * np.sqrt(area.sum() / covered)
    by = stretch(turned, true_shapes(mesh)[0])
    order = np.argsort(by)
    middle, most = by[order][np.searchsorted(np.cumsum(area[order]), [0.5 * area.sum(), 0.95 * area.sum()])]
    return f"{middle:.2f} | {most:.2f} | {covered / size**2:.0%}"


def growth() -> Lines:
    """How the cost of placing, settling and fusing grows with frames and with the voxel size."""
    rows = []
    mesh = npm_mesh("bunny")
    for stops in (6, 12, 24, 48, 96):
        made = captured("bunny", mesh, stops)
        seconds: dict[str, float] = {}
        recipe = built_in("print").with_parameter("fuse", "voxel_mm", 0.5)
        recipe = replace(recipe, steps=tuple(s for s in recipe.steps if s.operation != "lay_colour"))
        run = lambda made=made, seconds=seconds, recipe=recipe: run_recipe(  # noqa: E731
            opened(made), recipe, silent, lambda step, s, r, t: seconds.update({step.operation: t})
        )
        _, cost = measured(run, warm_up=stops == 6)
        names = ("place_frames", "find_fit", "settle", "trim_fuzz", "fuse", "close", "simplify")
        rows.append(
            f"| {2 * stops} | "
            + " | ".join(f"{seconds[n]:.1f}" for n in names)
            + f" | {cost.wall:.0f} | {cost.peak_gb:.2f} |"
        )
    head = "| frames | place frames | find fit | settle | trim fuzz | fuse | close | simplify | all s | peak GB |"
    lines = ["## Growth with the number of frames (0.5 mm)", "", *table(head, rows)]
    state = after(opened(captured("bunny", mesh)), PLACING)
    rows = []
    for voxel in (2.0, 1.0, 0.5, 0.25):
        volume, cost = measured(lambda voxel=voxel: fuse_volume(state, voxel, silent))
        rows.append(f"| {voxel} | {len(volume.coords):,} | {cost.cpu:.1f} | {cost.wall:.1f} |")
    return [
        *lines,
        "## Growth with the voxel size (48 frames, fusion)",
        "",
        *table("| voxel mm | blocks | CPU s | wall s |", rows),
    ]


RELIEF = ("dragon", "bunny", "owl", "camel", "elephant", "fandisk", "hand", "bull")
# kind, objects, stops of a part, least and greatest common share, with photographs, how many
TRIALS = (
    ("right pairs, a third or more in common", RELIEF, (4, 11), 1 / 3, 1.0, False, 130),
    ("right pairs, three to five stops", RELIEF, (3, 6), 1 / 3, 0.7, False, 60),
    ("same object, under 8 % in common", RELIEF, (1, 3), 0.0, 0.08, False, 50),
    ("different objects", (), (4, 11), 0.0, 1.0, False, 90),
    ("half a turn alike, plain", tuple(TWOFOLD), (4, 11), 0.3, 1.0, False, 50),
    ("half a turn alike, painted", tuple(TWOFOLD), (4, 11), 0.3, 1.0, True, 50),
    ("half a turn alike, painted, little in common", tuple(TWOFOLD), (1, 4), 0.0, 0.3, True, 20),
    ("knob or handle", tuple(KNOBBED), (4, 13), 0.3, 1.0, False, 30),
    ("bell, nearly symmetric", ("bell",), (4, 11), 1 / 3, 1.0, True, 20),
)


def trials() -> Lines:
    """Find fit over random parts of passes, right pairs and wrong ones; truth only judges."""
    rng = np.random.default_rng(60)
    traits = ScannerTraits(width=320, height=240, focal_px=432.0)
    models = {name: ScanModel.plain(organic(name)) for name in RELIEF if name != "owl"}
    models |= {"owl": ScanModel.plain(owl.model().mesh), "bell": bell.model()}
    models |= {name: twofold(name) for name in TWOFOLD} | {name: knobbed(name) for name in KNOBBED}
    scans = {name: three_passes(name, model, traits) for name, model in models.items()}

    rows, seconds = [], []
    for kind, names, stops, low, high, coloured, wanted in TRIALS:
        accepted, wrong, done = 0, 0, 0
        while done < wanted:
            first = str(rng.choice(names or list(models)))
            other = first if names else str(rng.choice([n for n in models if n != first]))
            a, b = (random_part(rng, n, *scans[n], stops, coloured) for n in (first, other))
            if names and not low <= common(a, b) < high:
                continue
            fit, cost = measured(lambda a=a, b=b: find_fit(a.side, b.side, silent), warm_up=False)
            seconds.append(cost.wall)
            done += 1
            if fit.accepted:
                off = fit.T_fixed_moving @ inverse(inverse(a.T_model_pass) @ b.T_model_pass)
                middle = a.side.cloud.points.mean(axis=0).astype(float)
                shift = np.linalg.norm(off[:3, :3] @ middle + off[:3, 3] - middle)
                right = first == other and difference(off, np.eye(4))[0] < 1.0 and shift < 1.0
                accepted += right
                wrong += not right
        rows.append(f"| {kind} | {wanted} | {accepted} | {wrong} |")
    note = (
        "Parts are neighbouring stops of twelve, 320×240, of three passes of each object. Right means within 1° and "
        f"1 mm of the truth. Median time of a fit {np.median(seconds):.1f} s."
    )
    return [
        "## Find fit: verdicts",
        "",
        note,
        "",
        *table("| pairs | tried | accepted and right | accepted and wrong |", rows),
    ]


SECTIONS = {
    "whole": whole_way,
    "times": times,
    "fusion": fusion,
    "fits": fits,
    "trials": trials,
    **HARD,
    "clouds": clouds,
    "meshes": meshes,
    "growth": growth,
    "previews": previews,
    "byhand": by_hand,
    "dust": dust,
    "ghosts": ghosts,
    "repairs": repairs,
    "stances": stances,
    "accuracy": accuracy,
    "holes": holes,
    "local": local,
    "forecasts": forecasts,
    "following": following,
    "kills": live_kills,
    "live": live,
}
