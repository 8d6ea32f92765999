"""What a surface shows when it is looked at closely: crossing triangles, thin walls, and seams between photographs."""

from typing import Any

import numpy as np

from lucid_relic.geometry.bvh import TriangleTree
from lucid_relic.inspection.findings import SHOWN_SPOTS, finding
from lucid_relic.inspection.print_check import PRINTERS, thin_spots
from lucid_relic.inspection.thickness import wall_thickness
from lucid_relic.light.difference import delta_e_2000, lab_of_linear
from lucid_relic.light.srgb import to_linear
from lucid_relic.types import ScanState, Texture, TriangleMesh

WALL_PLACES = 16_000
THINNEST_MM = min(printer.wall_mm for printer in PRINTERS.values())  # that any printer makes
SEAM_STEP = 3.0  # ΔE 2000 over what the surface itself changes that far: half of that is just seen side by side
SEAM_TEXELS = 24  # of a border between two photographs, below which nothing can be said of it
APART = 2  # texels on each side of a border that are held against each other: between them colours are mixed


def crossings(state: ScanState) -> list[dict[str, Any]]:
    """Triangles that cross others."""
    if state.mesh is None or not len(state.mesh.faces):
        return []
    faces = TriangleTree(state.mesh).crossing_faces()
    if not len(faces):
        return []
    place = state.mesh.face_centres()[faces[0]]
    return [finding("crossings", "mend", "Crossing triangles",
                    "The surface goes through itself: programs that cut it into layers stumble over it.",
                    f"{len(faces)}", "repair", [round(float(v), 2) for v in place])]  # fmt: skip


def thin_walls(state: ScanState, summary: dict[str, Any]) -> list[dict[str, Any]]:
    """Walls that no printer makes; of a printer that was chosen its own check tells."""
    if state.mesh is None or summary.get("walls") is not None:
        return []
    walls = wall_thickness(state.mesh, WALL_PLACES)
    return [
        finding("thin wall", "mend", "Thin wall", f"Thinner than the {THINNEST_MM:g} mm that the finest printer makes, over {spot['area_mm2']:.1f} mm².",
                f"{spot['least_mm']:.2f} mm", place=spot["place"])
        for spot in thin_spots(walls, THINNEST_MM)[:SHOWN_SPOTS]
    ]  # fmt: skip


def seams(state: ScanState) -> list[dict[str, Any]]:
    """Borders between two photographs at which the colour steps."""
    mesh = state.mesh
    if mesh is None or mesh.texture is None or mesh.texture.photo is None:
        return []
    step, at = largest_step(mesh.texture)
    if step <= SEAM_STEP:
        return []
    return [finding("seams", "colour", "Seam in the colour",
                    "Two photographs meet here with a step of colour. Even the light when laying colour, leave one out, or heal it.",
                    f"ΔE {step:.1f}", "lay_colour", _place_of(mesh, at))]  # fmt: skip


def largest_step(texture: Texture) -> tuple[float, tuple[int, int]]:
    """The largest step (ΔE 2000) of colour between two photographs beyond what the surface itself changes, and a texel of it."""
    photo = texture.photo
    assert photo is not None
    every = max(len(texture.image) // len(photo), 1)
    small = texture.image.reshape(len(photo), every, len(photo), every, 3).mean(axis=(1, 3))
    lab = lab_of_linear(to_linear(np.round(small).astype(np.uint8)).reshape(-1, 3)).reshape(small.shape)
    worst, where = 0.0, (0, 0)
    for axis in (0, 1):
        one, other = _sides(photo, axis)
        change = delta_e_2000(*(side.reshape(-1, 3) for side in _sides(lab, axis))).reshape(one.shape)
        inside = _through(photo, axis)
        border = (one != other) & inside
        usual = float(np.median(change[(one == other) & inside])) if ((one == other) & inside).any() else 0.0
        pair = np.minimum(one, other).astype(np.int64) * 65_536 + np.maximum(one, other)
        names, index, counts = np.unique(pair[border], return_inverse=True, return_counts=True)
        for k in np.flatnonzero(counts >= SEAM_TEXELS):
            step = float(np.median(change[border][index == k])) - usual
            if step > worst:
                row, column = np.argwhere(border)[np.flatnonzero(index == k)[0]]
                worst, where = step, (int(row), int(column))
    return worst, where


def _sides(values: np.ndarray, axis: int) -> tuple[np.ndarray, np.ndarray]:
    """The values (h, w, …) on both sides of every place, so many texels apart along an axis."""
    length = values.shape[axis] - 2 * APART
    return np.take(values, range(length), axis), np.take(values, range(2 * APART, length + 2 * APART), axis)


def _through(photo: np.ndarray, axis: int) -> np.ndarray:
    """Whether all texels between both sides show a photograph: there the surface goes on."""
    length = photo.shape[axis] - 2 * APART
    shown = [np.take(photo, range(k, length + k), axis) > 0 for k in range(2 * APART + 1)]
    out: np.ndarray = np.logical_and.reduce(shown)
    return out


def _place_of(mesh: TriangleMesh, texel: tuple[int, int]) -> list[float]:
    """Where on the surface a texel of the coarser grid lies."""
    texture = mesh.texture
    assert texture is not None and texture.photo is not None
    side = len(texture.photo)
    uv = np.array([(texel[1] + 0.5) / side, 1 - (texel[0] + 0.5) / side])
    face = int(np.argmin(((texture.uv.mean(axis=1) - uv) ** 2).sum(axis=1)))
    return [round(float(v), 2) for v in mesh.face_centres()[face]]
