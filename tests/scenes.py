"""Small scenes that several tests share: analytic meshes and quick captures with known truth."""

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
from embreex import rtcore_scene
from embreex.mesh_construction import TriangleMesh as EmbreeMesh

from lucid_relic.capture.device import PlannedDevice
from lucid_relic.capture.instruments import instrument
from lucid_relic.capture.model import ScanModel
from lucid_relic.capture.optics import look
from lucid_relic.capture.traits import ScannerTraits
from lucid_relic.capture.virtual import TurntablePlan, VirtualScanner
from lucid_relic.demo.shapes import box, capsule, mesh_of, revolved, smooth_union, sphere
from lucid_relic.fusion import _kernels
from lucid_relic.geometry.bvh import TriangleTree
from lucid_relic.geometry.measured import Given, measured_cloud
from lucid_relic.geometry.rigid import inverse, transform_points
from lucid_relic.inspection.distance import sample_surface
from lucid_relic.inspection.summary import LENGTHS
from lucid_relic.io.capture_writer import CaptureWriter
from lucid_relic.io.points_folder import PointsFolder, write_points_folder
from lucid_relic.types import Camera, Instrument, Part, PassState, PointCloud, ScanState, Texture, TriangleMesh

Field = Callable[[np.ndarray], np.ndarray]

QUICK = ScannerTraits(width=240, height=180, focal_px=324.0, standoff_mm=260.0, noise_mm=0.04)


def knot_field(p: np.ndarray) -> np.ndarray:
    """A lump without symmetry, about 60 mm: a body, a horn, a foot and a boss."""
    d = sphere(p, (0, 0, 24), 20)
    d = smooth_union(d, capsule(p, (8, 4, 36), (22, 14, 52), 8, 3.5), 4)
    d = smooth_union(d, box(p, (-6, 0, 5), (20, 14, 5), 2), 4)
    d = smooth_union(d, sphere(p, (-14, -12, 30), 9), 3)
    return smooth_union(d, capsule(p, (0, -16, 22), (6, -26, 12), 6, 4), 3)


def knot_model(voxel_mm: float = 1.0) -> ScanModel:
    mesh = mesh_of(knot_field, (-30, -34, -4), (30, 30, 62), voxel_mm)
    p = mesh.vertices
    albedo = 0.35 + 0.25 * np.sin(p / 6.0)
    return ScanModel(mesh, albedo.astype(np.float32), np.zeros(len(p), np.float32))


def uv_sphere(radius: float, rings: int = 64, sectors: int = 128) -> TriangleMesh:
    """A closed sphere with one vertex at each pole."""
    theta = np.linspace(0, np.pi, rings + 1)[1:-1]
    phi = np.arange(sectors) * 2 * np.pi / sectors
    t, f = np.meshgrid(theta, phi, indexing="ij")
    body = np.stack([np.sin(t) * np.cos(f), np.sin(t) * np.sin(f), np.cos(t)], axis=-1).reshape(-1, 3)
    vertices = np.concatenate([[[0, 0, 1]], body, [[0, 0, -1]]]) * radius
    grid = 1 + np.arange((rings - 1) * sectors).reshape(rings - 1, sectors)
    right = np.roll(grid, -1, axis=1)
    quads = np.stack([grid[:-1], grid[1:], right[1:], right[:-1]], axis=-1).reshape(-1, 4)
    last = len(vertices) - 1
    top = np.stack([np.zeros(sectors, int), grid[0], right[0]], axis=1)
    bottom = np.stack([np.full(sectors, last), right[-1], grid[-1]], axis=1)
    faces = np.concatenate([top, quads[:, [0, 1, 2]], quads[:, [0, 2, 3]], bottom])
    return TriangleMesh(vertices.astype(np.float32), faces.astype(np.int32))


def torus(ring: float, tube: float, n: int = 96, m: int = 48) -> TriangleMesh:
    """A closed torus about z."""
    a, b = np.meshgrid(np.arange(n) * 2 * np.pi / n, np.arange(m) * 2 * np.pi / m, indexing="ij")
    r = ring + tube * np.cos(b)
    vertices = np.stack([r * np.cos(a), r * np.sin(a), tube * np.sin(b)], axis=-1).reshape(-1, 3)
    grid = np.arange(n * m).reshape(n, m)
    i, j = np.roll(grid, -1, axis=0), np.roll(grid, -1, axis=1)
    ij = np.roll(i, -1, axis=1)
    faces = np.concatenate([np.stack([grid, i, ij], -1).reshape(-1, 3), np.stack([grid, ij, j], -1).reshape(-1, 3)])
    return TriangleMesh(vertices.astype(np.float32), faces.astype(np.int32))


def grid_plane(width: float, height: float, step: float) -> TriangleMesh:
    """A flat rectangle on z = 0 from the origin, two triangles a cell."""
    n, m = round(width / step), round(height / step)
    x, y = np.meshgrid(np.arange(n + 1) * step, np.arange(m + 1) * step, indexing="ij")
    vertices = np.stack([x, y, np.zeros_like(x)], axis=-1).reshape(-1, 3)
    grid = np.arange((n + 1) * (m + 1)).reshape(n + 1, m + 1)
    a, b, c, d = grid[:-1, :-1], grid[1:, :-1], grid[1:, 1:], grid[:-1, 1:]
    faces = np.concatenate([np.stack([a, b, c], -1).reshape(-1, 3), np.stack([a, c, d], -1).reshape(-1, 3)])
    return TriangleMesh(vertices.astype(np.float32), faces.astype(np.int32))


def joined(*meshes: TriangleMesh) -> TriangleMesh:
    """Several meshes as one, each a piece of it."""
    start = np.cumsum([0] + [len(m.vertices) for m in meshes])[:-1]
    faces = np.concatenate([m.faces + s for m, s in zip(meshes, start, strict=True)])
    return TriangleMesh(np.concatenate([m.vertices for m in meshes]), faces.astype(np.int32))


class Rendered:
    """Depth images sphere-traced from a signed distance function: a ray caster apart from the scanner's."""

    key = "rendered"

    def __init__(self, field: Field, poses: np.ndarray, camera: Camera, noise_mm: float = 0.0) -> None:
        self.images = []
        rng = np.random.default_rng(8)
        rays = np.concatenate([camera.rays, np.ones((*camera.rays.shape[:2], 1))], axis=2).reshape(-1, 3)
        unit = rays / np.linalg.norm(rays, axis=1, keepdims=True)
        for pose in poses:
            along, origin = unit @ pose[:3, :3].T, pose[:3, 3]
            t, away = _traced(field, origin, along)
            hit = np.abs(away) < 0.02
            z = np.where(hit, t * unit[:, 2] + noise_mm * rng.normal(size=len(t)), 0)
            self.images.append(z.reshape(camera.height, camera.width).astype(np.float32))

    def depth(self, index: int, part: Part | None = None) -> np.ndarray:
        return self.images[index] if part is None else self.images[index][part]

    def colour(self, index: int, part: Part | None = None) -> None:
        return None


def _traced(field: Field, origin: np.ndarray, along: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """How far (n,) rays run until they meet a surface or leave, and how far from it they end; ended ones rest."""
    t, away = np.full(len(along), 20.0), np.full(len(along), np.inf)
    running = np.arange(len(along))
    for _ in range(91):
        away[running] = field(origin + t[running, None] * along[running])
        running = running[(np.abs(away[running]) > 1e-6) & (t[running] < 1000.0)]
        if not len(running):
            break
        t[running] = np.minimum(t[running] + away[running], 1000.0)
    return t, away


def ring_of_views(count: int, distance: float, elevations_deg: tuple[float, ...], aim: tuple[float, ...]) -> np.ndarray:
    """(n, 4, 4) camera → object poses that look at a place from all around."""
    poses = []
    for e in np.radians(elevations_deg):
        for a in np.arange(count) * 2 * np.pi / count:
            back = np.array([np.cos(a) * np.cos(e), np.sin(a) * np.cos(e), np.sin(e)])
            right = np.array([-np.sin(a), np.cos(a), 0])
            pose = np.eye(4)
            pose[:3, :3] = np.stack([right, np.cross(-back, right), -back], axis=1)
            pose[:3, 3] = np.array(aim) + distance * back
            poses.append(pose)
    return np.stack(poses)


def rendered_state(
    field: Field, poses: np.ndarray, camera: Camera, noise_mm: float = 0.0, source: type[Rendered] = Rendered
) -> ScanState:
    """One placed pass of sphere-traced frames with exact poses."""
    n = len(poses)
    images = source(field, poses, camera, noise_mm)
    scan = PassState("rendered", images, camera, poses, np.ones(n, bool), np.zeros(n, np.float32), True, placed=True)
    return ScanState((replace(scan, noise_mm=noise_mm),))


def unpacked(words: np.ndarray) -> tuple[np.ndarray, ...]:
    """Plane distance (n,), normal (n, 3), confidence (n,) and colour (n, 3) of packed pixels (n, 3) int32."""
    word, last = words[:, 1].astype(np.int64), words[:, 2].astype(np.int64) & 0xFFFFFFFF
    signed = [word >> 21, (((word >> 10) & 0x7FF) ^ 0x400) - 0x400, ((word & 0x3FF) ^ 0x200) - 0x200]
    normals = np.column_stack([signed[0] / 1023, signed[1] / 1023, signed[2] / 511])
    colour = np.column_stack([last & 255, last >> 8 & 255, last >> 16 & 255])
    return np.ascontiguousarray(words[:, 0]).view(np.float32), normals, (last >> 24) * _kernels.MOST / 255, colour


def write_capture(
    root: Path, model: ScanModel, plan: TurntablePlan, seed: int = 0, traits: ScannerTraits = QUICK
) -> VirtualScanner:
    """Write a capture folder and return the scanner, whose truth only tests may read."""
    scanner = VirtualScanner(model, plan, traits, seed)
    write_frames(root, scanner)
    return scanner


def write_frames(root: Path, device: PlannedDevice) -> None:
    """Write all frames of a device as a capture folder."""
    writer = CaptureWriter(root, device.manifest())
    for index in range(device.frame_count()):
        shot = device.shoot(index)
        writer.add(shot.depth, shot.colour, **shot.fields)
    writer.finish()


def two_passes(root: Path, stops: int = 12) -> tuple[Path, Path, VirtualScanner, VirtualScanner]:
    """The lump captured upright and tipped by 90 degrees."""
    model = knot_model()
    upright, tipped = root / "upright", root / "tipped"
    a = write_capture(upright, model, TurntablePlan(stops=stops), seed=1)
    b = write_capture(tipped, model, replace(TurntablePlan(stops=stops), tip_deg=90.0, title="tipped"), seed=2)
    return upright, tipped, a, b


def hidden_colours(mesh: TriangleMesh, scanner: VirtualScanner, scan: PassState) -> tuple[np.ndarray, np.ndarray]:
    """(albedo (n, 3) in linear light of the lump where vertices of its mesh lie, (n,) bool of those that were measured)."""
    moved = mesh.transformed(scanner.truth_poses()[0] @ inverse(scan.T_object_camera(0)))
    model = knot_model()
    _, face, share = TriangleTree(model.mesh).foot(moved.vertices)
    hidden = np.einsum("nk,nkc->nc", share, model.albedo[model.mesh.faces[face]].astype(float))
    seen = np.ones(len(moved.vertices), bool)
    seen[np.unique(moved.faces[moved.made_up])] = False
    return hidden, seen


def vase_model() -> ScanModel:
    """A smooth body of revolution, 60 mm, that only its painted waves tell how it is turned."""
    profile = [(0, 60), (12, 60), (13, 52), (20, 40), (24, 26), (22, 10), (16, 0), (0, 0)]
    mesh = mesh_of(lambda p: revolved(p, profile), (-28, -28, -3), (28, 28, 64), 1.0)
    p = mesh.vertices
    around = np.arctan2(p[:, 1], p[:, 0])
    wave = np.sin(3 * around + p[:, 2] / 9) + 0.8 * np.sin(2 * around - p[:, 2] / 6 + 1)
    wave += 0.7 * np.sin(5 * around + 1.3 + p[:, 2] / 15)
    albedo = np.where((wave > 0.3)[:, None], [0.12, 0.15, 0.3], [0.35, 0.3, 0.25])
    return ScanModel(mesh, albedo.astype(np.float32), np.zeros(len(p), np.float32))


def state_of_points(count: int) -> ScanState:
    """A state of nothing but gathered points, for tests of what keeps states."""
    points = np.arange(3 * count, dtype=np.float32).reshape(-1, 3)
    return ScanState((), points=PointCloud(points, np.zeros_like(points)))


def part_scan(mesh: TriangleMesh, direction: tuple[float, float, float]) -> TriangleMesh:
    """What a far eye in a direction sees of a mesh: its triangles that face there and that nothing hides."""
    scene = rtcore_scene.EmbreeScene()
    EmbreeMesh(scene, np.ascontiguousarray(mesh.corners, dtype=np.float32))
    normals, way = mesh.face_normals(), np.array(direction)
    start = (mesh.face_centres() + 0.02 * way).astype(np.float32)
    hidden = scene.run(start, np.broadcast_to(way.astype(np.float32), start.shape).copy(), query="OCCLUDED") >= 0
    return mesh.select_faces((normals @ way > 0.2 * np.linalg.norm(normals, axis=1)) & ~hidden)


def cloud_pass(scan: PointCloud | TriangleMesh, folder: Path, **given: object) -> PassState:
    """A pass of points as it comes in, kept in a folder; what is not said of it is in millimetres."""
    cloud, noise = measured_cloud(scan, Given(**{"unit": "mm", "unit_from": "said", **given}), folder.name)
    write_points_folder(folder, folder.name, cloud, noise, np.zeros(3))
    return PointsFolder(folder).as_pass()


def seen_times(devices: list, mesh: TriangleMesh, count: int, within_mm: float) -> np.ndarray:
    """(count,) how many frames of some devices measured each of as many places on a mesh, by the simulator's truth."""
    places = sample_surface(mesh, count, 1)
    times = np.zeros(count, int)
    for device in devices:
        for index, pose in enumerate(device.truth_poses()):
            depth = device.shoot(index).depth
            q = transform_points(inverse(pose), places)
            uv = np.rint(device.camera.project(q)).astype(int)
            inside = (uv >= 0).all(axis=1) & (uv < [device.camera.width, device.camera.height]).all(axis=1)
            measured = np.zeros(count)
            measured[inside] = depth[uv[inside, 1], uv[inside, 0]]
            times += (measured > 0) & (np.abs(measured - q[:, 2]) < within_mm)
    return times


def small(name: str, divide: int = 2) -> Instrument:
    """An instrument with fewer pixels, for quick tests."""
    sheet = instrument(name)
    c = sheet.camera
    return replace(sheet, camera=Camera.centred(c.width // divide, c.height // divide, c.fx / divide))


def on_object(device: VirtualScanner, index: int) -> np.ndarray:
    """(h, w) bool of the pixels that look at the object."""
    seen = look(device.scene, device.camera, device._turned(device._stops[index]))
    return (seen.triangle >= 0).reshape(device.camera.height, device.camera.width)


def sphere_depth(camera: Camera, middle: np.ndarray, radius: float) -> np.ndarray:
    """(h, w) float32 mm at which a camera without distortion sees a sphere, 0 beside it."""
    lines = camera.sight_lines.reshape(-1, 3).astype(float)
    b, size = lines @ middle, (lines**2).sum(axis=1)
    inside = b**2 - size * (middle @ middle - radius**2)
    depth = np.where(inside > 0, (b - np.sqrt(np.maximum(inside, 0))) / size, 0)
    return depth.reshape(camera.height, camera.width).astype(np.float32)


SMALL_CAMERA = Camera.centred(16, 12, 20.0)


class Blank:
    """A source without anything in it."""

    key = "blank"

    def depth(self, index: int, part: Part | None = None) -> np.ndarray:
        return np.zeros((12, 16), np.float32)

    def colour(self, index: int, part: Part | None = None) -> None:
        return None


def one_pass(**changed) -> PassState:
    """A pass of four frames in the best of order, but for what is changed."""
    keep = np.packbits(np.arange(4 * 192).reshape(4, 192) % 4 == 0, axis=1)
    scan = PassState(
        "upright", Blank(), SMALL_CAMERA, np.tile(np.eye(4), (4, 1, 1)), np.ones(4, bool),
        np.array([0.03, 0.04, np.nan, 0.05], np.float32), True, keep=keep, placed=True,
    )  # fmt: skip
    return replace(scan, **changed)


def in_order(mesh: TriangleMesh) -> ScanState:
    texture = Texture(np.zeros((4, 4, 3), np.uint8), np.zeros((len(mesh.faces), 3, 2), np.float32), 1.0)
    checked = {"name": "across", "kind": "distance", "value": 20.0, "caliper_mm": 20.0}
    return ScanState((one_pass(),), mesh=replace(mesh, texture=texture), upright=True, notes={LENGTHS: [checked]})
