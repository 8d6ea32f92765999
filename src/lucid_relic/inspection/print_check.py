"""Is a mesh fit for a printer? What must hold is told one by one, each fault with a place and what mends it.

The figures are those of common practice: a wall of two lines of the nozzle for laid filament, half a millimetre for resin,
overhangs up to 45°, and 300 000 triangles as the most that programs which cut a mesh into layers bear well.
"""

from dataclasses import asdict, dataclass
from typing import Any

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from lucid_relic.inspection.mesh_check import MeshReport, check_mesh
from lucid_relic.inspection.thickness import SAMPLES, Thickness, wall_thickness
from lucid_relic.progress import Progress, part_of, silent
from lucid_relic.types import TriangleMesh

FOOT_MM = 0.05  # above the lowest place, within which triangles belong to the foot
FOOT_COS = 0.985  # a foot faces down within 10°
FOOT_SHARE = 0.02  # of the area of the body's shadow that a foot has at the least
SPOTS = 12  # thin places that are told, the thinnest
SPOT_SPACINGS = 2.5  # of the places asked: thin ones nearer to each other than this are one spot
EXACT = 0.005  # to which walls are measured: one as thick as is wanted is no fault
LEAST_PLACES = 3  # of a spot: fewer are where a wall ends


@dataclass(frozen=True, kw_only=True)
class Printer:
    """What a printer needs: its room (mm), the thinnest wall it makes (mm), overhang that holds by itself (degrees off upright)."""

    name: str
    room_mm: tuple[float, float, float]
    wall_mm: float
    overhang_deg: float = 45.0
    most_triangles: int = 300_000


PRINTERS: dict[str, Printer] = {
    p.name: p
    for p in (
        Printer(name="filament-0.4", room_mm=(220.0, 220.0, 250.0), wall_mm=0.8),
        Printer(name="filament-0.6", room_mm=(220.0, 220.0, 250.0), wall_mm=1.2),
        Printer(name="resin", room_mm=(140.0, 80.0, 160.0), wall_mm=0.5),
    )
}


@dataclass(frozen=True)
class Check:
    """One thing that must hold: whether it does, in words, a place (mm) where it does not, and the operation that mends it."""

    name: str
    holds: bool
    words: str
    place: list[float] | None = None
    mend: str | None = None


@dataclass(frozen=True)
class PrintReport:
    """All checks in the order they matter, thin spots with their least wall, and whether everything holds."""

    printer: str
    checks: tuple[Check, ...]
    thin: tuple[dict[str, Any], ...]
    thinnest_mm: float | None

    @property
    def ready(self) -> bool:
        return all(check.holds for check in self.checks)

    def as_dict(self) -> dict[str, Any]:
        return {**asdict(self), "ready": self.ready}


def print_check(mesh: TriangleMesh, printer: Printer, count: int = SAMPLES, progress: Progress = silent) -> PrintReport:
    """Judge a mesh that stands on its lowest place, z up, for a printer."""
    progress(0.0, "Checking the mesh")
    told = check_mesh(mesh)
    checks = [*_of_the_mesh(told), _size(mesh, printer), _count(told, printer)]
    thin: list[dict[str, Any]] = []
    thinnest = None
    if told.watertight and (told.volume_mm3 or 0) > 0:
        walls = wall_thickness(mesh, count, progress=part_of(progress, 0.4, 1.0))
        thin, thinnest = thin_spots(walls, printer.wall_mm), _least(walls)
        checks.append(_walls(thin, thinnest, printer))
    else:
        checks.append(Check("walls", False, "Walls can be measured only once it is closed.", mend="patch_holes"))
    checks += [_foot(mesh), _overhangs(mesh, printer)]
    return PrintReport(printer.name, tuple(checks), tuple(thin[:SPOTS]), thinnest)


def _of_the_mesh(told: MeshReport) -> list[Check]:
    inside_out = told.watertight and (told.volume_mm3 or 0) <= 0
    return [
        Check("closed", told.boundary_edges == 0, _said(told.holes, "open rim", "It is closed."), mend="patch_holes"),
        Check(
            "manifold",
            told.edge_manifold and told.vertex_manifold,
            "Every edge joins two triangles, every corner one fan."
            if told.edge_manifold and told.vertex_manifold
            else "Some edges or corners join more triangles than a surface has.",
            mend="repair",
        ),
        Check(
            "oriented",
            not inside_out,
            "It is inside out." if inside_out else "Its normals point outwards.",
            mend="repair",
        ),
        Check(
            "crossings",
            told.self_intersections == 0,
            _said(
                told.self_intersections, "pair of triangles crosses", "No triangles cross.", "pairs of triangles cross"
            ),
            mend="repair",
        ),
        Check(
            "pieces",
            told.components == 1,
            _said(told.components - 1, "loose piece", "It is one piece."),
            mend="largest_piece",
        ),
    ]


def _said(number: int, one: str, none: str, several: str = "") -> str:
    if number <= 0:
        return none
    return f"{number} {one if number == 1 else several or one + 's'}."


def _size(mesh: TriangleMesh, printer: Printer) -> Check:
    size = np.ptp(mesh.vertices, axis=0) if len(mesh.vertices) else np.zeros(3)
    room = np.array(printer.room_mm)
    # It may be turned about the upright axis by a right angle.
    fits = bool((size <= room).all() or (size[[1, 0, 2]] <= room).all())
    words = " × ".join(f"{v:.1f}" for v in size)
    return Check("size", fits, f"{words} mm, the printer has {' × '.join(f'{v:g}' for v in room)} mm.")


def _count(told: MeshReport, printer: Printer) -> Check:
    fits = told.triangles <= printer.most_triangles
    return Check(
        "triangles", fits, f"{told.triangles} triangles, {printer.most_triangles} are borne well.", mend="simplify"
    )


def _least(walls: Thickness) -> float | None:
    known = walls.wall_mm[np.isfinite(walls.wall_mm)]
    return float(np.quantile(known, LEAST_PLACES / len(known))) if len(known) > LEAST_PLACES else None


def _walls(thin: list[dict[str, Any]], thinnest: float | None, printer: Printer) -> Check:
    if not thin:
        least = "" if thinnest is None else f" The thinnest is {thinnest:.2f} mm."
        return Check("walls", True, f"No wall is under {printer.wall_mm:g} mm.{least}")
    spots = f"{len(thin)} spot{'s' * (len(thin) != 1)}"
    words = f"{spots} under {printer.wall_mm:g} mm, the thinnest {thin[0]['least_mm']:.2f} mm."
    return Check("walls", False, words, thin[0]["place"])


def thin_spots(walls: Thickness, least_mm: float) -> list[dict[str, Any]]:
    """Places nearer together that are thinner than allowed, as spots: place (mm), least_mm and area_mm2, the thinnest first."""
    with np.errstate(invalid="ignore"):
        index = np.flatnonzero(walls.wall_mm < (1 - EXACT) * least_mm)
    if not len(index):
        return []
    places = walls.places[index]
    pairs = cKDTree(places).query_pairs(SPOT_SPACINGS * np.sqrt(walls.area_mm2), output_type="ndarray")
    graph = coo_matrix((np.ones(len(pairs)), (pairs[:, 0], pairs[:, 1])), shape=(len(index),) * 2)
    count, label = connected_components(graph, directed=False)
    spots = []
    for k in range(count):
        own = index[label == k]
        if len(own) < LEAST_PLACES:
            continue
        worst = own[np.argmin(walls.wall_mm[own])]
        spots.append(
            {
                "place": walls.places[worst].round(3).tolist(),
                "least_mm": round(float(walls.wall_mm[worst]), 4),
                "area_mm2": round(float(len(own) * walls.area_mm2), 3),
            }
        )
    return sorted(spots, key=lambda s: s["least_mm"])


def _foot(mesh: TriangleMesh) -> Check:
    """Whether it stands on something flat."""
    if not len(mesh.faces):
        return Check("foot", False, "There is nothing to stand on.")
    normals = mesh.face_normals().astype(np.float64)
    area = np.linalg.norm(normals, axis=1)
    lowest = mesh.corners[:, :, 2].max(axis=1) < mesh.vertices[:, 2].min() + FOOT_MM
    down = -normals[:, 2] / np.maximum(area, 1e-12) > FOOT_COS
    foot = area[lowest & down].sum() / 2
    shadow = np.abs(normals[:, 2]).sum() / 4  # of a closed body: each place of its shadow is crossed twice at the least
    stands = bool(foot > FOOT_SHARE * shadow)
    words = f"It stands on {foot / 100:.2f} cm² that are flat." if stands else "It has no flat foot to stand on."
    return Check("foot", stands, words, mend=None if stands else "flat_foot")


def _overhangs(mesh: TriangleMesh, printer: Printer) -> Check:
    """How much hangs over: it prints with supports, so that it is told but fails nothing."""
    normals = mesh.face_normals().astype(np.float64)
    area = np.linalg.norm(normals, axis=1)
    foot = (
        mesh.corners[:, :, 2].max(axis=1) < mesh.vertices[:, 2].min() + FOOT_MM
        if len(mesh.faces)
        else np.zeros(0, bool)
    )
    hangs = (-normals[:, 2] / np.maximum(area, 1e-12) > np.sin(np.radians(printer.overhang_deg))) & ~foot
    if not hangs.any():
        return Check("overhangs", True, "Nothing hangs over.")
    worst = int(np.flatnonzero(hangs)[np.argmax(area[hangs])])
    place = mesh.corners[worst].mean(axis=0).round(3).tolist()
    return Check("overhangs", True, f"{area[hangs].sum() / 200:.1f} cm² hang over and need supports.", place)
