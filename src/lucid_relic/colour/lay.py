"""Lay colour: the photographs of the placed passes onto a mesh, as a texture or per vertex.

Each texel takes its best photographs by slant, distance and nearness to a border of what was seen, only
where the frame's own depth says that it saw this very place; exposure and the fall of the light are evened
out first (`colour.even_light`), then they are blended sharply in linear light, with glare held down. What no photograph saw takes the colour of its surroundings along the surface.
"""

from dataclasses import replace

import numpy as np
from scipy.ndimage import distance_transform_edt
from scipy.sparse import coo_matrix, diags
from scipy.sparse.linalg import cg

from lucid_relic.colour import _kernels
from lucid_relic.colour.atlas import Atlas, make_atlas
from lucid_relic.colour.even_light import Light, View, even_light
from lucid_relic.colour.srgb import to_linear, to_srgb
from lucid_relic.errors import StepNotPossible
from lucid_relic.geometry.depth_map import frame_map
from lucid_relic.geometry.rigid import inverse
from lucid_relic.progress import Progress, part_of
from lucid_relic.types import Camera, PassState, ScanState, Texture, TriangleMesh

SHARPNESS = 6.0
FEATHER = 8.0  # pixels over which a photograph fades out
GUTTER_RINGS = 6
CHUNK = 2_000_000
MAX_VIEWS = 96
TOLERANCE_MM = 0.6


def lay_colour(state: ScanState, mesh: TriangleMesh, size: int, progress: Progress) -> TriangleMesh:
    """The mesh with vertex colours and a texture of `size`² texels from all placed passes."""
    progress(0.0, "Reading photographs")
    views = _views(state, part_of(progress, 0.0, 0.25))
    if not views:
        raise StepNotPossible("None of the frames has a photograph, so there is no colour to lay.")
    tolerance = _tolerance(state)
    normals = mesh.vertex_normals()
    light = even_light(mesh, normals, views, tolerance)
    vertex_linear, vertex_seen = _colour_points(mesh.vertices, normals, views, light, tolerance)
    vertex_linear = _continue_over_surface(mesh, vertex_linear, vertex_seen)
    progress(0.35, "Cutting and packing charts")
    atlas = make_atlas(mesh, size)
    image, seen, unseen = _paint(
        mesh, atlas, views, light, tolerance, normals, vertex_linear, part_of(progress, 0.5, 1.0)
    )
    uv = (atlas.uv + 0.5) / size
    uv[:, :, 1] = 1 - uv[:, :, 1]
    texture = Texture(image, uv.astype(np.float32), seen, unseen)
    return replace(mesh, colours=to_srgb(vertex_linear), texture=texture)


def _tolerance(state: ScanState) -> float:
    voxel = state.volume.voxel_mm if state.volume is not None else 0.5
    noise = max(p.noise_mm for p in state.used_passes())
    return max(TOLERANCE_MM, 2.0 * voxel, 6.0 * noise)


def _views(state: ScanState, progress: Progress) -> list[View]:
    frames = [(p, int(i)) for p in state.used_passes() for i in p.frames_used()]
    count = min(len(frames), MAX_VIEWS)
    chosen = np.unique(np.linspace(0, len(frames) - 1, count).astype(int)) if count else np.empty(0, int)
    out = []
    for k in chosen:
        progress(k / len(frames), "Reading photographs")
        view = _view(*frames[k])
        if view is not None:
            out.append(view)
    return out


def _view(scan: PassState, index: int) -> View | None:
    image = scan.source.colour(index)
    if image is None:
        return None
    surface = frame_map(scan, index)
    camera: Camera = scan.colour_camera or scan.camera
    T_depth_colour = np.eye(4) if scan.T_depth_colour is None else scan.T_depth_colour
    # A photograph fades out towards every border of what it saw, so that its end leaves no edge.
    inside = distance_transform_edt(surface.confidence > 0)
    trust = surface.confidence * np.minimum(inside / FEATHER, 1.0)
    return View(
        inverse(scan.T_object_camera(index)), scan.camera.as_vector, surface.fitted,
        trust.astype(np.float32), inverse(T_depth_colour), camera.as_vector, to_linear(image),
    )  # fmt: skip


def _colour_points(
    points: np.ndarray, normals: np.ndarray, views: list[View], light: Light, tolerance: float
) -> tuple[np.ndarray, np.ndarray]:
    """Linear colour (n, 3) float32 and whether any view saw the point (n,)."""
    n = len(points)
    weights = np.zeros((n, _kernels.BEST), np.float32)
    colours = np.zeros((n, _kernels.BEST, 3), np.float32)
    for k, view in enumerate(views):
        _kernels.gather_view(points, normals, *view.arrays, tolerance, light.gain[k], light.shade, weights, colours)
    out, seen = np.zeros((n, 3), np.float32), np.zeros(n, np.bool_)
    _kernels.blend_views(weights, colours, SHARPNESS, out, seen)
    return out, seen


def _continue_over_surface(mesh: TriangleMesh, linear: np.ndarray, seen: np.ndarray) -> np.ndarray:
    """Colour of unseen vertices by Laplace's equation over the mesh, the seen ones as boundary."""
    unseen = np.flatnonzero(~seen)
    if not len(unseen) or not seen.any():
        return linear if seen.any() else np.full_like(linear, 0.25)
    n = len(linear)
    i = mesh.faces.ravel()
    j = np.roll(mesh.faces, -1, axis=1).ravel()
    ones = np.ones(len(i), np.float32)
    adjacency = coo_matrix((ones, (i, j)), shape=(n, n)).tocsr()
    adjacency = adjacency.maximum(adjacency.T)
    rows = adjacency[unseen]
    degree = np.asarray(rows.sum(axis=1)).ravel() + 1e-6
    system = diags(degree) - rows[:, unseen]
    mean = linear[seen].mean(axis=0)
    out = linear.copy()
    for c in range(3):
        right = rows[:, np.flatnonzero(seen)] @ linear[seen, c] + 1e-6 * mean[c]
        out[unseen, c], _ = cg(system, right, x0=np.full(len(unseen), mean[c]), rtol=1e-4, maxiter=400)
    return np.clip(out, 0, 1)


def _paint(
    mesh: TriangleMesh, atlas: Atlas, views: list[View], light: Light, tolerance: float, normals: np.ndarray,
    vertex_linear: np.ndarray, progress: Progress,
) -> tuple[np.ndarray, float, np.ndarray]:  # fmt: skip
    """The texture image (s, s, 3) uint8, the share of covered texels that were seen, and those not seen."""
    size = atlas.size
    owner = np.full((size, size), -1, np.int32)
    bary = np.zeros((size, size, 2), np.float32)
    _kernels.rasterise(atlas.uv, owner, bary, 0.0)
    covered = np.flatnonzero(owner.ravel() >= 0)
    linear = np.zeros((size * size, 3), np.float32)
    unseen = np.zeros(size * size, np.bool_)
    for start in range(0, len(covered), CHUNK):
        progress(start / len(covered), "Laying colour")
        part = covered[start : start + CHUNK]
        corner = mesh.faces[owner.ravel()[part]]
        st = bary.reshape(-1, 2)[part]
        share = np.stack([1 - st.sum(axis=1), st[:, 0], st[:, 1]], axis=1)
        points = _blend(share, mesh.vertices, corner)
        colour, seen = _colour_points(points, _blend(share, normals, corner), views, light, tolerance)
        colour[~seen] = _blend(share[~seen], vertex_linear, corner[~seen])
        linear[part] = colour
        unseen[part] = ~seen
    progress(0.9, "Widening the charts' borders")
    filled = owner >= 0
    image = _with_gutters(linear.reshape(size, size, 3), filled)
    share = 1 - unseen.sum() / max(len(covered), 1)
    return to_srgb(image), float(share), unseen.reshape(size, size)


def _blend(share: np.ndarray, values: np.ndarray, corner: np.ndarray) -> np.ndarray:
    out = share[:, :1] * values[corner[:, 0]]
    out += share[:, 1:2] * values[corner[:, 1]]
    out += share[:, 2:] * values[corner[:, 2]]
    return out.astype(np.float32)


def _with_gutters(image: np.ndarray, filled: np.ndarray) -> np.ndarray:
    mean = image[filled].mean(axis=0)
    for _ in range(GUTTER_RINGS):
        out, out_filled = np.empty_like(image), np.zeros_like(filled)
        out[:] = mean
        _kernels.widen(image, filled, out, out_filled)
        image, filled = out, out_filled
    return image
