"""Healing: an artefact is taken out of a mesh, and the hole it leaves is closed as the surface around it bends."""

from typing import NamedTuple

import numpy as np

from lucid_relic.errors import StepNotPossible
from lucid_relic.mending.rims import close_rims, find_rims
from lucid_relic.progress import Progress, silent
from lucid_relic.types import TriangleMesh

MOST_SHARE = 0.5  # of the area: what is left must tell how the surface goes on


class Healed(NamedTuple):
    """The mesh, how many holes were closed, and how many of them had to stay flat."""

    mesh: TriangleMesh
    patches: int
    flat: int


def heal(mesh: TriangleMesh, chosen: np.ndarray, flat: bool = False, progress: Progress = silent) -> Healed:
    """Take the triangles in chosen (m,) bool out and close over them; holes that were there before stay open.

    Colours flow in from around, new triangles are made up, a texture is taken off. Raises `StepNotPossible` when so much
    is chosen that what is left could not tell how the surface goes on.
    """
    area = np.linalg.norm(mesh.face_normals(), axis=1)
    if float(area[chosen].sum()) > MOST_SHARE * float(area.sum()):
        raise StepNotPossible("More than half of the surface is marked: mark only the artefact itself.")
    touched = np.zeros(len(mesh.vertices), bool)
    touched[mesh.faces[chosen]] = True
    kept = np.unique(mesh.faces[~chosen])
    out = mesh.without_texture().select_faces(~chosen)
    rims = [rim for rim in find_rims(out) if touched[kept[rim.corners]].all()]
    if not rims:
        raise StepNotPossible("What is marked is a piece of its own: there is no surface around it to go on from.")
    closed, stayed = close_rims(out, rims, flat, progress)
    return Healed(closed, len(rims), stayed)
