"""A surface made ready for a receiver: coloured as it is shown, reduced, its texture sized, its unit and axis turned."""

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

import numpy as np
from PIL import Image

from lucid_relic.errors import StepNotPossible
from lucid_relic.io.delivered import delivered
from lucid_relic.mending.simplify import simplify
from lucid_relic.progress import Progress
from lucid_relic.types import UNITS_MM, TriangleMesh

Y_UP = np.array([[1, 0, 0, 0], [0, 0, 1, 0], [0, -1, 0, 0], [0, 0, 0, 1.0]])  # z up → y up, right-handed as before


def prepared(
    mesh: TriangleMesh, notes: Mapping[str, Any], progress: Progress, *, triangles: int = 0, texture: int = 0,
    colour: bool = True, measured_only: bool = False,
) -> TriangleMesh:  # fmt: skip
    """The mesh with at most so many triangles and texels a side (0: as they are), with its colour or without.

    With measured_only nothing that is made up is left in it. Raises `StepNotPossible` when nothing measured is left.
    """
    if measured_only and mesh.made_up is not None:
        if mesh.made_up.all():
            raise StepNotPossible("Nothing of this surface was measured: there is nothing to leave.")
        mesh = mesh.select_faces(~mesh.made_up)
    if not colour:
        mesh = replace(mesh, texture=None, colours=None)
    if triangles and len(mesh.faces) > triangles:
        progress(0.05, f"Reducing to {triangles:,} triangles")
        mesh = simplify(mesh, triangles, keep_texture=True, progress=progress).mesh
    if mesh.texture is not None and texture and len(mesh.texture.image) > texture:
        picture = Image.fromarray(mesh.texture.image).resize((texture, texture), Image.Resampling.BOX)
        mesh = replace(mesh, texture=replace(mesh.texture, image=np.asarray(picture), unseen=None, photo=None))
    return delivered(mesh, notes)


def in_frame(mesh: TriangleMesh, unit: str, up: str) -> TriangleMesh:
    """The mesh in another unit and with another axis up, for formats that say neither."""
    turn = Y_UP if up == "y" else np.eye(4)
    scale = 1 / UNITS_MM[unit]
    return replace(mesh.transformed(turn @ np.diag([scale, scale, scale, 1.0])), roughness=mesh.roughness)


def with_vertex_colours(mesh: TriangleMesh) -> TriangleMesh:
    """The mesh with the colours that its texture shows at its vertices, and without the texture."""
    if mesh.texture is None:
        return mesh
    colours = np.zeros((len(mesh.vertices), 3), np.uint8)
    colours[mesh.faces.ravel()] = mesh.texture.at(mesh.texture.uv.reshape(-1, 2))
    return replace(mesh, colours=colours, texture=None)
