"""What a surface shows when it is looked at closely: crossing triangles, thin walls, and seams between photographs."""

from typing import Any

import numpy as np
from scipy.spatial import cKDTree

from lucid_relic.geometry.bvh import TriangleTree
from lucid_relic.inspection.engine_check import texels_per_mm
from lucid_relic.inspection.findings import SHOWN_SPOTS, finding
from lucid_relic.inspection.print_check import PRINTERS, thin_spots
from lucid_relic.inspection.thickness import wall_thickness
from lucid_relic.light.difference import delta_e_2000, lab_of_linear
from lucid_relic.light.srgb import to_linear
from lucid_relic.types import ScanState, TriangleMesh

WALL_PLACES = 16_000
THINNEST_MM = min(printer.wall_mm for printer in PRINTERS.values())  # that any printer makes
SEAM_STEP = 3.0  # ΔE 2000 over what the surface itself changes that far: half of that is just seen side by side
SEAM_TEXELS = 40  # of a border between two photographs, below which nothing can be said of it
LOW = 30  # percentile that a step reaches along a seam: lower ones may be where it was blended away
BESIDE = 5  # texels from a border, where the surface's own change of colour is looked at
NEAR_TIMES = 2.0  # farther apart on the surface than in the texture, texels belong to two charts
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
    step, at = largest_step(mesh)
    if step <= SEAM_STEP:
        return []
    return [finding("seams", "colour", "Seam in the colour",
                    "Two photographs meet here with a step of colour. Even the light when laying colour, leave one out, or heal it.",
                    f"ΔE {step:.1f}", "lay_colour", _place_of(mesh, at))]  # fmt: skip


def largest_step(mesh: TriangleMesh) -> tuple[float, tuple[int, int]]:
    """The largest step (ΔE 2000) of colour between two photographs beyond what the surface itself changes, and a texel of it."""
    texture = mesh.texture
    assert texture is not None and texture.photo is not None
    photo = texture.photo
    every = max(len(texture.image) // len(photo), 1)
    small = texture.image.reshape(len(photo), every, len(photo), every, 3).mean(axis=(1, 3))
    lab = lab_of_linear(to_linear(np.round(small).astype(np.uint8)).reshape(-1, 3)).reshape(small.shape)
    onto = _OnSurface(mesh, len(photo))
    worst, where = 0.0, (0, 0)
    for axis in (0, 1):
        one, other = _sides(photo, axis)
        change = delta_e_2000(*(side.reshape(-1, 3) for side in _sides(lab, axis))).reshape(one.shape)
        inside = _through(photo, axis)
        at = np.argwhere((one != other) & inside)
        at = at[onto.near(at, axis)]
        around = _around(change, (one == other) & inside, at, axis)
        deep = np.isfinite(around)
        at, around, border = at[deep], around[deep], tuple(at[deep].T)
        pair = np.minimum(one, other).astype(np.int64) * 65_536 + np.maximum(one, other)
        names, index, counts = np.unique(pair[border], return_inverse=True, return_counts=True)
        for k in np.flatnonzero(counts >= SEAM_TEXELS):
            # A seam goes all along a border; what is painted crosses it here and there, and changes beside it as well.
            low, high = np.percentile(change[border][index == k], LOW), np.percentile(around[index == k], 100 - LOW)
            step = float(low - high)
            if step > worst:
                row, column = at[np.flatnonzero(index == k)[0]]
                worst, where = step, (int(row), int(column))
    return worst, where


def _around(change: np.ndarray, whole: np.ndarray, at: np.ndarray, axis: int) -> np.ndarray:
    """(n,) mean change of colour just beside places (n, 2) of a border, within one photograph each; NaN in slivers."""
    held = []
    for away in (-BESIDE, BESIDE):
        beside = at.copy()
        beside[:, axis] = np.clip(beside[:, axis] + away, 0, change.shape[axis] - 1)
        row, column = beside.T
        held.append(np.where(whole[row, column], change[row, column], np.nan))
    return (held[0] + held[1]) / 2


class _OnSurface:
    """Where texels of the coarser grid lie on the surface: neighbours in the texture need not be neighbours there."""

    def __init__(self, mesh: TriangleMesh, side: int) -> None:
        texture = mesh.texture
        assert texture is not None
        self._tree, self._side = cKDTree(texture.uv.mean(axis=1)), side
        self._centres = mesh.face_centres()
        middle = texture.uv.mean(axis=1, keepdims=True)
        self._reach = np.linalg.norm(texture.uv - middle, axis=2).max(axis=1)
        self._texel_mm = texture.image.shape[0] / side / max(texels_per_mm(mesh, texture), 1e-9)
        self._face_mm = float(np.sqrt(mesh.area_mm2() / max(len(mesh.faces), 1)))

    def near(self, at: np.ndarray, axis: int) -> np.ndarray:
        """(n,) bool: whether both sides of places (n, 2) lie on the surface, and beside each other there."""
        over = at.copy()
        over[:, axis] += 2 * APART
        (one, on), (other, other_on) = self._faces(at), self._faces(over)
        apart = np.linalg.norm(self._centres[one] - self._centres[other], axis=1)
        near: np.ndarray = on & other_on & (apart < NEAR_TIMES * (2 * APART * self._texel_mm + self._face_mm))
        return near

    def _faces(self, at: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """The faces whose middles lie nearest to texels in the texture, and whether these lie within their reach."""
        uv = np.stack([(at[:, 1] + 0.5) / self._side, 1 - (at[:, 0] + 0.5) / self._side], axis=1)
        away, face = self._tree.query(uv, workers=-1)
        return face, away <= self._reach[face] + 0.5 / self._side


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
