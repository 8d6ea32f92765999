"""From what a file holds to a pass of points: its unit, its points, its normals."""

from dataclasses import dataclass

import numpy as np

from lucid_relic.errors import InputError
from lucid_relic.geometry.normals import cloud_noise, cloud_spacing, with_normals
from lucid_relic.progress import Progress, part_of, silent
from lucid_relic.types import UNITS_MM, MeasuredCloud, PointCloud, TriangleMesh

METRES_BELOW = 2.0  # units across: what is smaller was written in metres, since nothing of 2 mm is scanned here
SPACINGS_ACROSS = (150, 600)  # points across a mesh at the least and at the most that are laid on its faces
WIDE_FACE = 1.5  # spacings: a longer face gets points of its own
MOST_SAMPLES = 4_000_000  # points laid on the faces of one mesh
MOST_STEPS = 200  # of the grid on one face


@dataclass(frozen=True)
class Given:
    """What is known of a scan beside its points: its unit and who says so, its scanner (3,) in that unit, its shared frame.

    least_points is how many it must have; fewer have no shape.
    """

    unit: str = ""
    unit_from: str = "format"
    scanner: np.ndarray | None = None
    shared_frame: str = ""
    least_points: int = 100


def guessed_unit(size: float) -> str:
    """The unit that a scan of so many numbers across was most likely written in."""
    return "m" if size < METRES_BELOW else "mm"


def size_of(points: np.ndarray) -> float:
    """Longest side of the box around points (n, 3), in their unit."""
    return float((points.max(axis=0) - points.min(axis=0)).max()) if len(points) else 0.0


def measured_cloud(
    scan: PointCloud | TriangleMesh, given: Given, where: str, progress: Progress = silent
) -> tuple[MeasuredCloud, float]:
    """The pass of points of a scan, in millimetres, and the noise (mm) of its points.

    A mesh's points are its vertices, and some on every face that is much larger than the others. Raises `InputError`, which
    begins with `where`, for a scan with too few points or of no size.
    """
    places = scan.vertices if isinstance(scan, TriangleMesh) else scan.points
    size = size_of(places)
    least = min(given.least_points, 4) if isinstance(scan, TriangleMesh) else given.least_points
    if len(places) < least or (size <= 0 and least > 1):
        raise InputError(f"{where}: only {len(places)} points, or all at one place; a pass needs {least}")
    unit, unit_from = (given.unit, given.unit_from) if given.unit else (guessed_unit(size), "size")
    factor = np.float32(UNITS_MM[unit])
    surface = None
    if isinstance(scan, TriangleMesh):
        surface = TriangleMesh(scan.vertices * factor, scan.faces, scan.colours, scan.made_up, scan.texture)
        cloud, normals_from = sampled(surface), "faces"
    else:
        cloud = PointCloud(scan.points * factor, _unit_length(scan.normals), scan.colours)
        normals_from = "file" if cloud.normals is not None else "spread" if given.scanner is None else "scanner"
    scanner = None if given.scanner is None else given.scanner * float(factor)
    middle = cloud.points.mean(axis=0, dtype=np.float64)
    cloud = with_normals(cloud, middle, scanner, part_of(progress, 0, 0.9))
    progress(0.9, "Measuring spacing and noise")
    out = MeasuredCloud(
        cloud, cloud_spacing(cloud.points), scanner, surface, unit, unit_from, normals_from,
        shared_frame=given.shared_frame,
    )  # fmt: skip
    return out, cloud_noise(cloud.points)


def _unit_length(normals: np.ndarray | None) -> np.ndarray | None:
    """Normals of length 1; None when many have none, so that they are made instead."""
    if normals is None:
        return None
    length = np.linalg.norm(normals, axis=1, keepdims=True)
    if not np.isfinite(length).all() or (length < 1e-6).mean() > 0.01:
        return None
    return (normals / np.maximum(length, 1e-6)).astype(np.float32)


def sampled(mesh: TriangleMesh) -> PointCloud:
    """Points on a mesh with normals, and colours where it has them: its used vertices, and a grid on every wide face."""
    used = np.unique(mesh.faces)
    corners = mesh.corners
    sides = np.linalg.norm(corners - np.roll(corners, 1, axis=1), axis=2)
    longest = sides.max(axis=1)
    size = size_of(mesh.vertices[used])
    fewest, most = SPACINGS_ACROSS
    spacing = float(np.clip(np.median(sides), size / most, size / fewest))
    steps = np.minimum(np.ceil(longest / spacing).astype(int), MOST_STEPS)
    steps[longest < WIDE_FACE * spacing] = 1
    while (steps.astype(np.int64) ** 2 // 2)[steps > 1].sum() > MOST_SAMPLES:
        steps = np.where(steps > 1, np.maximum(steps // 2, 2), 1)
    face, share = _on_faces(steps)
    points = np.concatenate([mesh.vertices[used], np.einsum("nk,nkj->nj", share, corners[face])])
    flat = mesh.face_normals()[face]
    flat /= np.maximum(np.linalg.norm(flat, axis=1, keepdims=True), 1e-30)
    normals = np.concatenate([mesh.vertex_normals()[used], flat])
    ok = np.linalg.norm(normals, axis=1) > 0.5
    colours = _colours_at(mesh, used, face, share)
    cloud = PointCloud(points.astype(np.float32), normals.astype(np.float32), colours)
    return cloud if ok.all() else cloud.select(ok)


def _on_faces(steps: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Faces (n,) and corner shares (n, 3) of a grid inside every face that is to be cut into `steps` (m,) along its sides."""
    faces, shares = [np.empty(0, np.int64)], [np.empty((0, 3), np.float32)]
    for k in np.unique(steps[steps > 1]):
        i, j = np.meshgrid(np.arange(k), np.arange(k), indexing="ij")
        inside = i + j < k
        grid = np.stack([i[inside], j[inside]], axis=1) + 1 / 3
        own = np.flatnonzero(steps == k)
        faces.append(np.repeat(own, len(grid)))
        share = np.column_stack([k - grid.sum(axis=1), grid]) / k
        shares.append(np.tile(share.astype(np.float32), (len(own), 1)))
    return np.concatenate(faces), np.concatenate(shares)


def _colours_at(mesh: TriangleMesh, used: np.ndarray, face: np.ndarray, share: np.ndarray) -> np.ndarray | None:
    """(n, 3) uint8 of the vertices that are used, then of the places on faces; None for a mesh without colour."""
    if mesh.texture is not None:
        corner = np.empty((len(mesh.vertices), 2), np.float32)
        corner[mesh.faces.ravel()] = mesh.texture.uv.reshape(-1, 2)
        uv = np.concatenate([corner[used], np.einsum("nk,nkj->nj", share, mesh.texture.uv[face])])
        return mesh.texture.at(uv)
    if mesh.colours is None:
        return None
    mixed = np.einsum("nk,nkj->nj", share, mesh.colours[mesh.faces[face]].astype(np.float32))
    return np.concatenate([mesh.colours[used], np.round(mixed).astype(np.uint8)])
