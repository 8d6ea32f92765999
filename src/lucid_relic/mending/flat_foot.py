"""A flat foot: a closed body cut off by a plane, the cut closed flat."""

from typing import NamedTuple

import numpy as np
from manifold3d import Error, Manifold, Mesh

from lucid_relic.errors import StepNotPossible
from lucid_relic.types import TriangleMesh


class Footed(NamedTuple):
    """The mesh that is left, and the area (mm²) of its new foot."""

    mesh: TriangleMesh
    foot_mm2: float


def cut_flat(mesh: TriangleMesh, plane: np.ndarray) -> Footed:
    """What of a closed mesh lies in front of a plane (4,) n·p = d, closed flat; colours are kept, the foot is made up.

    A texture is taken off. Raises `StepNotPossible` for a mesh that is not closed, and when the plane does not cut it.
    """
    solid = Manifold(_packed(mesh))
    if solid.status() != Error.NoError:
        raise StepNotPossible(
            "Only a closed surface without faults can be cut flat. Close its holes or repair it first."
        )
    cut = solid.trim_by_plane(tuple(float(v) for v in plane[:3]), float(plane[3]))
    if cut.is_empty():
        raise StepNotPossible("Nothing of the object lies above this plane: cut off less.")
    told = cut.to_mesh()
    properties, faces = np.asarray(told.vert_properties), np.asarray(told.tri_verts, np.int64)
    # Corners on the rim of the cut come twice, since they belong to body and foot: here they are one.
    one = np.arange(len(properties))
    one[np.asarray(told.merge_from_vert, np.int64)] = np.asarray(told.merge_to_vert, np.int64)
    used, faces = np.unique(one[faces], return_inverse=True)
    of_body = np.zeros(len(told.tri_verts), bool)
    of_body[: int(told.run_index[1]) // 3] = True
    if of_body.all():
        raise StepNotPossible("The plane does not cut the object: cut off more.")
    made = ~of_body
    if mesh.made_up is not None:
        made[of_body] = mesh.made_up[np.asarray(told.face_id, np.int64)[of_body]]
    colours = None
    if mesh.colours is not None:
        colours = np.clip(np.round(properties[used, 3:]), 0, 255).astype(np.uint8)
    out = TriangleMesh(properties[used, :3].astype(np.float32), faces.reshape(-1, 3).astype(np.int32), colours, made)
    return Footed(out, float(np.linalg.norm(out.face_normals()[~of_body], axis=1).sum() / 2))


def _packed(mesh: TriangleMesh) -> Mesh:
    rows = mesh.vertices.astype(np.float32)
    if mesh.colours is not None:
        rows = np.column_stack([rows, mesh.colours.astype(np.float32)])
    numbers = np.arange(len(mesh.faces), dtype=np.uint32)
    return Mesh(vert_properties=np.ascontiguousarray(rows), tri_verts=mesh.faces.astype(np.uint32), face_id=numbers)
