"""A texture kept where a mesh is patched: the patches are painted into the parts of the square that no chart uses.

Every triangle of a patch gets a cell of texels of its own, over which the colours of its corners are mixed: what flowed in from
around is drawn exactly, and the charts stay as they are.
"""

from dataclasses import replace

import numpy as np
from scipy.ndimage import binary_dilation

from lucid_relic.colour import _view_kernels
from lucid_relic.light.srgb import to_linear, to_srgb
from lucid_relic.types import TriangleMesh

CELL, DOT = 4, 1  # texels on a side of a triangle's cell, and where there is too little room for that
CLEAR = 2  # texels beside a chart stay as they are: filtering reaches that far


def in_vertex_colours(mesh: TriangleMesh) -> TriangleMesh:
    """The mesh with the colours of its texture at its vertices, and without the texture: what is mended takes them on."""
    if mesh.texture is None:
        return mesh
    shown = np.zeros((len(mesh.vertices), 3), np.uint8)
    shown[mesh.faces.ravel()] = mesh.texture.at(mesh.texture.uv.reshape(-1, 2))
    return replace(mesh, colours=shown, texture=None)


def over_patches(before: TriangleMesh, after: TriangleMesh) -> TriangleMesh:
    """A mesh that was patched, with the texture that it had before.

    The first faces of `after` are those of `before`, with the vertices that they had; the others are patches, whose
    vertices carry colours (see `in_vertex_colours`). A texture without room for a texel of each is taken off.
    """
    texture = before.texture
    if texture is None:
        return after
    colours = None if before.colours is None else after.colours
    fresh = np.arange(len(before.faces), len(after.faces))
    side = len(texture.image)
    used, drawn = _used(texture.uv, side)
    cell, at = _room(used, len(fresh))
    if cell == 0:
        return after
    image, unseen = texture.image.copy(), None if texture.unseen is None else texture.unseen.copy()
    corners = to_linear(after.colours[after.faces[fresh]])
    steps = np.arange(cell)
    x, y = (v.ravel() for v in np.meshgrid(steps, steps))
    last = max(cell - 1, 1)
    # Beyond its long side a cell goes on as the triangle does, so that filtering finds the same there.
    part = np.stack([1 - (x + y) / last, x / last, y / last], axis=1) if cell > 1 else np.full((1, 3), 1 / 3)
    texels = np.einsum("tk,nkc->ntc", part, corners).clip(0, 1)
    rows, columns = at[:, :1] + y, at[:, 1:] + x
    image[rows, columns] = to_srgb(texels.reshape(-1, 3)).reshape(*rows.shape, 3)
    if unseen is not None:
        unseen[rows, columns] = True
    inside = np.array([[0, 0], [last, 0], [0, last]]) if cell > 1 else np.zeros((3, 2))
    places = at[:, None, ::-1] + inside + 0.5
    uv = np.stack([places[..., 0] / side, 1 - places[..., 1] / side], axis=-1).astype(np.float32)
    seen = texture.seen * drawn / max(drawn + rows.size, 1)
    laid = replace(texture, image=image, unseen=unseen, seen=seen, uv=np.concatenate([texture.uv, uv]))
    return replace(after, colours=colours, texture=laid)


def _used(uv: np.ndarray, side: int) -> tuple[np.ndarray, int]:
    """(side, side) bool of texels that charts use, and of those beside them; and how many lie within triangles."""
    at = uv.astype(np.float64) * side - 0.5
    at[:, :, 1] = side - 1 - at[:, :, 1]
    owner = np.full((side, side), -1, np.int32)
    _view_kernels.rasterise(at, owner)
    # Slivers cover the middle of no texel: their corners count too.
    columns, rows = (np.clip(np.rint(at[..., k]).astype(int), 0, side - 1) for k in (0, 1))
    used: np.ndarray = owner >= 0
    used[rows, columns] = True
    beside = np.ones((2 * CLEAR + 1, 2 * CLEAR + 1), np.bool_)
    return binary_dilation(used, beside), int((owner >= 0).sum())


def _room(used: np.ndarray, count: int) -> tuple[int, np.ndarray]:
    """The side of the cells that as many fit of, and their upper left texels (count, 2) row and column; 0 where none do."""
    for cell in (CELL, DOT):
        blocks = len(used) // cell
        whole = used[: blocks * cell, : blocks * cell].reshape(blocks, cell, blocks, cell)
        free = np.argwhere(~whole.any(axis=(1, 3)))
        if len(free) >= count:
            return cell, free[:count] * cell
    return 0, np.zeros((0, 2), int)
