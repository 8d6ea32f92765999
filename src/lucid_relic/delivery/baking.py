"""Baking: what a reduced mesh lost of shape is laid on it as pictures: its normals, and how open each place lies.

Normals are in tangent space as glTF 2.0 has it (x along u, y up in the picture, z away from the surface), over tangents that
the file carries; openness is the share of a cosine-weighted sky that a place of the fine mesh sees (ambient occlusion).
"""

from dataclasses import dataclass

import numpy as np
from embreex import rtcore_scene
from embreex.mesh_construction import TriangleMesh as EmbreeMesh

from lucid_relic.colour import _view_kernels
from lucid_relic.colour.lay import shares
from lucid_relic.errors import StepNotPossible
from lucid_relic.progress import Progress
from lucid_relic.types import TriangleMesh

REACH = 0.02  # of the object: what lies farther off is another sheet
OFF = 1e-4  # of the object: where rays begin, off the surface
FAR = 0.5  # of the object: what is farther does not take its sky from a place
SKY = 48  # rays to the sky of each place
SEED = 17
AT_ONCE = 200_000  # texels asked at a time
FLAT = np.array([128, 128, 255], np.uint8)  # the normal that changes nothing
GROWN = 4  # texels beyond the charts that filtering may reach


@dataclass(frozen=True)
class Maps:
    """normal (s, s, 3) uint8 and occlusion (s, s) uint8, each None when it was not asked for; row 0 at the top."""

    normal: np.ndarray | None = None
    occlusion: np.ndarray | None = None


def baked(
    fine: TriangleMesh, reduced: TriangleMesh, size: int, normal: bool, occlusion: bool, progress: Progress
) -> Maps:
    """The pictures of a fine mesh on the texture of a reduced one, `size`² texels."""
    if reduced.texture is None:
        raise StepNotPossible("Maps are laid on a texture. Lay colour first.")
    scene = rtcore_scene.EmbreeScene()
    body = EmbreeMesh(scene, np.ascontiguousarray(fine.corners, dtype=np.float32))
    uv = reduced.texture.uv.astype(np.float64) * size - 0.5
    uv[:, :, 1] = size - 1 - uv[:, :, 1]
    owner = np.full((size, size), -1, np.int32)
    _view_kernels.rasterise(uv, owner)
    rows, columns = np.nonzero(owner >= 0)
    extent = float(np.linalg.norm(np.ptp(fine.vertices, axis=0)))
    tangents = vertex_tangents(reduced)
    normals, smooth = reduced.vertex_normals().astype(np.float64), fine.vertex_normals().astype(np.float64)
    sky = _sky()
    shown = np.tile(FLAT, (size, size, 1))
    open_ = np.full((size, size), 255, np.uint8)
    for first in range(0, len(rows), AT_ONCE):
        progress(first / max(len(rows), 1), "Baking maps")
        part = slice(first, first + AT_ONCE)
        y, x = rows[part], columns[part]
        face = owner[y, x]
        share = shares(uv[face], np.stack([x, y], axis=1))
        corner = reduced.faces[face]
        place = np.einsum("nk,nkj->nj", share, reduced.vertices[corner].astype(np.float64))
        up = _unit(np.einsum("nk,nkj->nj", share, normals[corner]))
        at, facing = _of_fine(scene, fine, smooth, place, up, extent)
        if normal:
            along = np.einsum("nk,nkj->nj", share, tangents[face])
            shown[y, x] = _encoded(facing, up, along[:, :3], np.sign(along[:, 3]))
        if occlusion:
            open_[y, x] = np.round(255 * _openness(scene, at, facing, sky, extent))
    del body
    empty = owner < 0
    return Maps(_grown(shown, empty) if normal else None, _grown(open_, empty) if occlusion else None)


def vertex_tangents(mesh: TriangleMesh) -> np.ndarray:
    """(m, 3, 4) tangent of every corner of a textured mesh, square to its normal, and ±1: which way the picture's up lies."""
    corners = mesh.corners.astype(np.float64)
    uv = mesh.texture.uv.astype(np.float64)
    e1, e2 = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
    d1, d2 = uv[:, 1] - uv[:, 0], uv[:, 2] - uv[:, 0]
    det = d1[:, 0] * d2[:, 1] - d2[:, 0] * d1[:, 1]
    turn = np.where(det < 0, -1.0, 1.0)
    along = (e1 * d2[:, 1:] - e2 * d1[:, 1:]) * turn[:, None]
    # Corners that are one in the picture share their tangent; across a seam each chart has its own.
    key = np.empty(mesh.faces.size, [("v", "<i4"), ("u", "<f4"), ("w", "<f4"), ("t", "<i1")])
    key["v"] = mesh.faces.ravel()
    key["u"], key["w"] = mesh.texture.uv.reshape(-1, 2).T
    key["t"] = np.repeat(turn, 3)
    _, index = np.unique(key, return_inverse=True)
    index = index.reshape(-1)
    total = np.zeros((index.max() + 1, 3))
    np.add.at(total, index, np.repeat(_unit(along) * np.abs(det)[:, None], 3, axis=0))
    normals = mesh.vertex_normals().astype(np.float64)[mesh.faces.ravel()]
    own = total[index]
    own = _unit(own - normals * np.einsum("ij,ij->i", own, normals)[:, None])
    out: np.ndarray = np.concatenate([own, np.repeat(turn, 3)[:, None]], axis=1).reshape(-1, 3, 4)
    return out


def _of_fine(
    scene: rtcore_scene.EmbreeScene,
    fine: TriangleMesh,
    smooth: np.ndarray,
    place: np.ndarray,
    up: np.ndarray,
    extent: float,
) -> tuple[np.ndarray, np.ndarray]:
    """Where (n, 3) the fine mesh lies over or under places, and how it faces there; the places themselves where it does not."""
    at, facing = place.copy(), up.copy()
    nearest = np.full(len(place), REACH * extent)
    for way in (1.0, -1.0):
        begin = place - way * OFF * extent * up
        hit = scene.run(begin.astype(np.float32), (way * up).astype(np.float32), output=True)
        found = hit["primID"].astype(np.int64)
        closer = (found >= 0) & (hit["tfar"] < nearest)
        face = found[closer]
        u, v = hit["u"][closer], hit["v"][closer]
        share = np.stack([1 - u - v, u, v], axis=1)
        there = _unit(np.einsum("nk,nkj->nj", share, smooth[fine.faces[face]]))
        good = np.einsum("ij,ij->i", there, up[closer]) > 0
        rows = np.flatnonzero(closer)[good]
        nearest[rows] = hit["tfar"][rows]
        facing[rows] = there[good]
        at[rows] = np.einsum("nk,nkj->nj", share[good], fine.vertices[fine.faces[face[good]]].astype(np.float64))
    return at, facing


def _encoded(facing: np.ndarray, up: np.ndarray, along: np.ndarray, turn: np.ndarray) -> np.ndarray:
    """(n, 3) uint8 of normals in the frame of tangent, the picture's up, and the surface's normal."""
    along = _unit(along - up * np.einsum("ij,ij->i", along, up)[:, None])
    across = np.cross(up, along) * turn[:, None]
    local = np.stack([np.einsum("ij,ij->i", facing, axis) for axis in (along, across, up)], axis=1)
    local[:, 2] = np.maximum(local[:, 2], 1e-3)
    return np.round((_unit(local) * 0.5 + 0.5) * 255).astype(np.uint8)


def _openness(
    scene: rtcore_scene.EmbreeScene, at: np.ndarray, facing: np.ndarray, sky: np.ndarray, extent: float
) -> np.ndarray:
    """(n,) share 0-1 of the sky that is seen."""
    x = _unit(np.cross(facing, np.where(np.abs(facing[:, :1]) < 0.8, [[1.0, 0, 0]], [[0, 1.0, 0]])))
    y = np.cross(facing, x)
    begin = (at + 3 * OFF * extent * facing).astype(np.float32)
    seen = np.zeros(len(at))
    for ray in sky:
        way = (ray[0] * x + ray[1] * y + ray[2] * facing).astype(np.float32)
        hit = scene.run(begin, way, output=True)
        seen += (hit["primID"] == -1) | (hit["tfar"] > FAR * extent)
    share: np.ndarray = seen / len(sky)
    return share


def _sky() -> np.ndarray:
    """(SKY, 3) directions over a surface, as often as their cosine weighs, spread evenly (a golden spiral)."""
    n = np.arange(SKY) + 0.5
    radius, angle = np.sqrt(n / SKY), n * np.pi * (3 - np.sqrt(5))
    return np.stack([radius * np.cos(angle), radius * np.sin(angle), np.sqrt(1 - radius**2)], axis=1)


def _grown(image: np.ndarray, empty: np.ndarray) -> np.ndarray:
    """The picture with the texels around its charts filled from their neighbours."""
    out, left = image.copy(), empty.copy()
    for _ in range(GROWN):
        for axis, step in ((0, 1), (0, -1), (1, 1), (1, -1)):
            from_, filled = np.roll(out, step, axis), np.roll(~left, step, axis)
            take = left & filled
            out[take] = from_[take]
            left &= ~take
    return out


def _unit(vectors: np.ndarray) -> np.ndarray:
    out: np.ndarray = vectors / np.maximum(np.linalg.norm(vectors, axis=1, keepdims=True), 1e-20)
    return out
