"""Meshes as drawing programs want them: one texture coordinate per vertex."""

import numpy as np

from lucid_relic.types import TriangleMesh


def seam_split(mesh: TriangleMesh) -> tuple[TriangleMesh, np.ndarray | None]:
    """The mesh with vertices doubled along texture seams, and uv (n, 2) per vertex or None."""
    if mesh.texture is None:
        return mesh, None
    corner = np.empty(mesh.faces.size, [("v", "<i4"), ("u", "<f4"), ("w", "<f4")])
    corner["v"] = mesh.faces.ravel()
    corner["u"], corner["w"] = mesh.texture.uv.reshape(-1, 2).T
    unique, index = np.unique(corner, return_inverse=True)
    split = TriangleMesh(
        mesh.vertices[unique["v"]],
        index.reshape(-1, 3).astype(np.int32),
        None if mesh.colours is None else mesh.colours[unique["v"]],
        mesh.made_up,
        mesh.texture,
    )
    return split, np.stack([unique["u"], unique["w"]], axis=1)
