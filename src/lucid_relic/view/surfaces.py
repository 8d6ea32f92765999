"""What the viewer shows of surfaces beside the surface itself: its holes, its takes, and how far one take lies off another."""

from dataclasses import replace

import numpy as np
from scipy.spatial import cKDTree

from lucid_relic.errors import StepNotPossible
from lucid_relic.geometry.bvh import TriangleTree
from lucid_relic.geometry.seam_split import seam_split
from lucid_relic.inspection.deviation import deviation
from lucid_relic.inspection.thickness import thickness_at
from lucid_relic.inspection.uncertainty import uncertainty
from lucid_relic.mending.rims import FLAT, find_rims
from lucid_relic.mending.simplify import simplify
from lucid_relic.progress import Progress, silent
from lucid_relic.types import PointCloud, ScanState, TriangleMesh
from lucid_relic.view.glance import glanced
from lucid_relic.view.mesh_view import view_glb
from lucid_relic.view.packing import pack_arrays

# Triangles of a take as it is shown: larger ones come at a glance of fewer, so that two of them turn with the hand also where
# the processor draws; when the whole is asked for, as many as a graphics card turns.
MOST_AT_ONCE, GLANCED, MOST_SHOWN = 300_000, 60_000, 700_000
MOST_HOLES = 4_000  # that are listed, the longest
NOT_KNOWN = -1e6  # mm, in packed figures


def packed_rims(mesh: TriangleMesh) -> bytes:
    """The holes of a mesh, the longest first: facts in the head; their corners end to end, and where each begins."""
    rims = find_rims(mesh)[:MOST_HOLES]
    holes = [
        {
            "length_mm": round(rim.length_mm, 3),
            "size_mm": round(rim.size_mm, 3),
            "area_mm2": round(rim.area_mm2, 3),
            "flat": rim.bend < FLAT,
            "at": [round(float(v), 3) for v in rim.place],
        }
        for rim in rims
    ]
    corners = [mesh.vertices[rim.corners].astype(np.float32) for rim in rims]
    begins = np.cumsum([0, *(len(c) for c in corners)]).astype(np.uint32)
    places = np.concatenate([np.empty((0, 3), np.float32), *corners])
    return pack_arrays({"holes": holes}, {"places": places, "begins": begins})


def shown_take(mesh: TriangleMesh, whole: bool = False, progress: Progress = silent) -> TriangleMesh:
    """A take as it is shown: the same, or reduced to what a view can turn; at a glance unless the whole of it is asked for.

    At a glance its vertices are some of the mesh's own, so that what is measured at them is true.
    """
    if len(mesh.faces) <= (MOST_SHOWN if whole else MOST_AT_ONCE):
        return mesh
    if whole:
        return simplify(mesh, MOST_SHOWN, progress=progress).mesh
    few = glanced(mesh, GLANCED)
    _, nearest = cKDTree(mesh.vertices).query(few.vertices, workers=-1)
    return replace(few, vertices=mesh.vertices[nearest])


def take_glb(mesh: TriangleMesh, whole: bool = False) -> bytes:
    """A take for the viewer."""
    return view_glb(shown_take(mesh, whole))


def packed_off(mesh: TriangleMesh, other: TriangleMesh, whole: bool = False) -> bytes:
    """How far each vertex of a shown take lies outside (+) or inside (−) another one (mm), as array `figures`."""
    shown = shown_take(mesh, whole)
    foot, face, _ = TriangleTree(other).foot(shown.vertices.astype(np.float64))
    way = shown.vertices - foot
    off = np.linalg.norm(way, axis=1)
    outside = np.einsum("ij,ij->i", way, other.face_normals()[face]) >= 0
    return pack_arrays({}, {"figures": np.where(outside, off, -off).astype(np.float32)})


def packed_deviation(mesh: TriangleMesh, other: TriangleMesh | PointCloud) -> bytes:
    """How far each vertex of the mesh as it is shown lies off a reference (mm, outside positive), as array `figures`."""
    off = deviation(seam_split(mesh)[0].vertices, other).off
    return pack_arrays({}, {"figures": np.nan_to_num(off, nan=NOT_KNOWN).astype(np.float32)})


def packed_accuracy(state: ScanState, averaged: float) -> bytes:
    """The standard uncertainty of each vertex of the mesh as it is shown (mm), as array `figures`; see `Uncertainty`."""
    assert state.mesh is not None
    told = uncertainty(state.for_surface())
    _, nearest = cKDTree(told.places).query(seam_split(state.mesh)[0].vertices, workers=-1)
    sigma = told.sigma_mm(averaged)[nearest]
    return pack_arrays({}, {"figures": np.nan_to_num(sigma, nan=NOT_KNOWN).astype(np.float32)})


def packed_photographs(mesh: TriangleMesh) -> bytes:
    """Which photograph each place of the texture shows best: array `photo` (t, t), from 1, 0 where none; the photographs
    (title of the pass, number of the frame) and t in the head; array `unseen` (t, t) where the colour is from around."""
    texture = mesh.texture
    if texture is None or texture.photo is None:
        raise StepNotPossible("It is not known which photograph shows what: lay the colour anew.")
    side = len(texture.photo)
    step = len(texture.image) // side
    whole = texture.unseen if texture.unseen is not None else np.zeros(texture.image.shape[:2], bool)
    blocks = whole[: side * step, : side * step].reshape(side, step, side, step)
    unseen = np.asarray(blocks.any(axis=(1, 3)), np.uint8)
    arrays: dict[str, np.ndarray] = {"photo": texture.photo.astype(np.uint16)}
    arrays["unseen"] = unseen
    return pack_arrays({"side": side, "photographs": [list(p) for p in texture.photos]}, arrays)


def packed_walls(mesh: TriangleMesh) -> bytes:
    """How thick the body is at each vertex of the mesh as it is shown (mm), as array `figures`."""
    # Seams of a texture split vertices for the view; the body stays closed.
    thick = thickness_at(mesh, seam_split(mesh)[0].vertices)
    return pack_arrays({}, {"figures": np.nan_to_num(thick, nan=NOT_KNOWN).astype(np.float32)})
