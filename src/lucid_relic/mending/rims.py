"""Holes in a mesh of any origin: what they are, and closing those one chooses.

Notches of a ragged rim are filled by a triangle each; what is left takes a disc of even triangles: rings of fewer and fewer
corners, which is sound whatever the rim looks like. Its places are then solved for: a membrane (Laplace) where it is to be flat, else the thin plate that goes on as the surface
around it bends (bi-Laplacian with cotangent weights, Botsch & Kobbelt 2004, doi:10.1145/1015706.1015772; the weights are those of the
membrane: those of the plate itself, solved for once more, were worse on a ball and a torus). Colours flow in from the rim.
"""

from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np
from scipy.sparse import coo_matrix, csr_matrix, diags
from scipy.sparse.linalg import splu

from lucid_relic.geometry.bvh import crossing_near
from lucid_relic.geometry.topology import corner_fans, edge_table, side_pairs
from lucid_relic.progress import Progress, silent
from lucid_relic.types import TriangleMesh

RING_HEIGHT = 0.87  # of a side: that of an even triangle
MOST_ROUND = 240  # corners of the first ring inside a rim: longer rims are thinned at once
NOTCH_DEG = 85.0  # corners sharper than this are notches
LEAST_WEIGHT = 0.02  # of the usual cotangent: slivers at a rim may not pull the wrong way
FLAT = 0.02  # of its size, that the rim of a flat hole may leave its plane
LIFTS = (0.12, -0.12, 0.25, -0.25)  # of its size, by which a patch is domed that crosses even flat
CROSSING_REACH = 2.0  # sides of triangles within which a crossing is looked for


@dataclass(frozen=True)
class Rim:
    """A hole: its corners (k,) in the order in which a patch goes round, length and size across (mm), area of the patch if it were flat
    (mm²), by how much of its size it bends out of its plane, its middle (3,) and the normal (3,) of that plane, outwards."""

    corners: np.ndarray
    length_mm: float
    size_mm: float
    area_mm2: float
    bend: float
    place: np.ndarray
    normal: np.ndarray


def find_rims(mesh: TriangleMesh) -> list[Rim]:
    """The holes of a mesh, the longest first; those that touch in a corner are apart."""
    return sorted((_rim(mesh.vertices, loop) for loop in _loops(mesh)), key=lambda r: -r.length_mm)


def _loops(mesh: TriangleMesh) -> list[np.ndarray]:
    """Rims as rings of vertices, in the order in which a patch goes round."""
    faces = mesh.faces
    if not len(faces):
        return []
    a, b = side_pairs(faces)
    free = np.ones(3 * len(faces), bool)
    free[a] = free[b] = False
    fans = corner_fans(faces)
    # A side of the surface runs from start to end, that of a patch back again.
    leaving: dict[int, list[_Step]] = {}
    for side in np.flatnonzero(free):
        face, corner = divmod(int(side), 3)
        start, end = int(faces[face, corner]), int(faces[face, (corner + 1) % 3])
        step = _Step(end, start, int(fans[face, (corner + 1) % 3]), int(fans[face, corner]))
        leaving.setdefault(end, []).append(step)
    loops = []
    while leaving:
        first = step = next(iter(leaving.values()))[0]
        loop = []
        while True:
            _taken(leaving, step)
            loop.append(step.begin)
            ways = leaving.get(step.end, [])
            if not ways or (step.end == first.begin and step.end_fan != first.begin_fan):
                break
            step = _onward(mesh.vertices, step, ways)
        if len(loop) >= 3 and step.end == first.begin:  # a run of sides that ends in a fault is no hole
            loops.append(np.array(loop))
    return loops


class _Step(NamedTuple):
    """A side of a patch: from where to where, and the fans of the surface at both ends."""

    begin: int
    end: int
    begin_fan: int
    end_fan: int


def _taken(leaving: dict[int, list[_Step]], step: _Step) -> None:
    rest = leaving[step.begin]
    rest.remove(step)
    if not rest:
        del leaving[step.begin]


def _onward(vertices: np.ndarray, step: _Step, ways: list[_Step]) -> _Step:
    """The next side round the same hole: a gap between two fans of the surface has a side of each."""
    other = [way for way in ways if way.begin_fan != step.end_fan] or ways
    if len(other) == 1:
        return other[0]
    back = vertices[step.begin].astype(np.float64) - vertices[step.end]
    cosine = [
        float(np.dot(back, w) / max(np.linalg.norm(w), 1e-12))
        for w in (vertices[x.end].astype(float) - vertices[x.begin] for x in other)
    ]
    return other[int(np.argmax(cosine))]


def _rim(vertices: np.ndarray, corners: np.ndarray) -> Rim:
    p = vertices[corners].astype(np.float64)
    middle = p.mean(axis=0)
    around = p - middle
    steps = np.roll(p, -1, axis=0) - p
    area = np.cross(around, np.roll(around, -1, axis=0)).sum(axis=0) / 2
    flat = float(np.linalg.norm(area))
    size = float(2 * np.sqrt((around**2).sum(axis=1)).max())
    normal = area / max(flat, 1e-12)
    off = around @ normal
    return Rim(
        corners, float(np.linalg.norm(steps, axis=1).sum()), size, flat,
        float(np.sqrt((off**2).mean()) / max(size, 1e-12)), middle, normal,
    )  # fmt: skip


def close_rims(
    mesh: TriangleMesh, rims: list[Rim], flat: bool = False, progress: Progress = silent
) -> tuple[TriangleMesh, int]:
    """The mesh with some of its `find_rims` closed, and how many patches had to stay flat since they would have crossed something.

    New triangles are made up; a texture is taken off, since nothing of it lies on the patches.
    """
    if not rims:
        return mesh, 0
    grown = _with_discs(mesh, rims)
    inner = np.arange(len(mesh.vertices), len(grown.mesh.vertices))
    progress(0.2, "Closing holes")
    membrane = _solved(_links(grown.mesh), _all_but(inner, len(grown.mesh.vertices)), grown.mesh.vertices, inner)
    places = grown.mesh.vertices.astype(np.float64)
    places[inner] = membrane
    colours = grown.mesh.colours
    if colours is not None:
        told = _solved(_links(grown.mesh), _all_but(inner, len(places)), colours.astype(np.float64), inner)
        colours = colours.copy()
        colours[inner] = np.clip(np.round(told), 0, 255).astype(np.uint8)
    bent = places.copy()
    if not flat and len(inner):
        progress(0.5, "Following the curvature")
        bent[inner] = _plate(grown.mesh.faces, places, inner, grown.near)
    progress(0.9, "Looking for crossings")
    out = replace(grown.mesh, colours=colours)
    crossed = _crossed_patches(grown, bent, len(mesh.faces))
    if len(crossed):
        bent = _without_crossings(grown, rims, bent, places[inner], crossed, len(mesh.faces))
    progress(1.0, "Closed")
    return replace(out, vertices=bent.astype(np.float32)), 0 if flat else len(crossed)


def _crossed_patches(grown: "_Grown", places: np.ndarray, first: int, asked: np.ndarray | None = None) -> np.ndarray:
    """Numbers of the patches, of all or of those asked for, that cross something with the vertices at places (n, 3).

    New faces begin at `first`.
    """
    made = np.arange(first, len(grown.mesh.faces))
    if asked is not None:
        made = made[np.isin(grown.patch, asked)]
    mesh = TriangleMesh(places.astype(np.float32), grown.mesh.faces)
    out: np.ndarray = np.unique(grown.patch[np.intersect1d(crossing_near(mesh, made, CROSSING_REACH), made) - first])
    return out


def _without_crossings(
    grown: "_Grown", rims: list[Rim], bent: np.ndarray, membrane: np.ndarray, crossed: np.ndarray, first: int
) -> np.ndarray:
    """Places (n, 3) with patches that cross laid flat, or where that crosses too, domed a little to one side or the other."""
    inner = np.arange(len(bent) - len(membrane), len(bent))
    size = np.array([rim.size_mm for rim in rims])[grown.owner]
    normal = np.stack([rim.normal for rim in rims])[grown.owner]
    left, best, dome = crossed, bent.copy(), None
    for lift in (0.0, *LIFTS):
        if lift and dome is None:
            dome = _domes(grown, inner)
        height = 0.0 if dome is None else (lift * size * dome)[:, None]
        own = np.isin(grown.owner, left)
        tried = best.copy()
        tried[inner[own]] = (membrane + height * normal)[own]
        still = _crossed_patches(grown, tried, first, left)
        # What crosses even domed stays flat: no other place is better for it.
        settled = own & ~np.isin(grown.owner, still) if lift else own
        best[inner[settled]] = tried[inner[settled]]
        left = still
        if not len(left):
            break
    return best


def _domes(grown: "_Grown", inner: np.ndarray) -> np.ndarray:
    """(k,) of every inner vertex, how high it stands in a dome over its rim: none at the rim, 1 at the most."""
    rows = _links(grown.mesh)[inner][:, inner]
    height = np.asarray(splu(rows.tocsc()).solve(np.ones(len(inner))))
    highest = np.zeros(int(grown.owner.max(initial=-1)) + 1)
    np.maximum.at(highest, grown.owner, height)
    out: np.ndarray = height / highest[grown.owner]
    return out


@dataclass(frozen=True)
class _Grown:
    """The mesh with discs: patch (k,) rim of every new face, owner (j,) rim of every new vertex, near (n,) bool what a plate may ask."""

    mesh: TriangleMesh
    patch: np.ndarray
    owner: np.ndarray
    near: np.ndarray


def _with_discs(mesh: TriangleMesh, rims: list[Rim]) -> _Grown:
    faces, patch, owner, new = [mesh.faces], [], [], []
    count = len(mesh.vertices)
    known = _edges_among(mesh, rims)
    for k, whole in enumerate(rims):
        notches, rim = _without_notches(mesh.vertices, whole, known)
        own, places = _disc(mesh.vertices, rim, count)
        own = np.concatenate([notches, own])
        faces.append(own)
        patch.append(np.full(len(own), k))
        owner.append(np.full(len(places), k))
        new.append(places)
        count += len(places)
    all_faces = np.concatenate(faces).astype(np.int32)
    places = np.concatenate([mesh.vertices, *new]).astype(np.float32)
    made = np.zeros(len(all_faces), bool)
    made[: len(mesh.faces)] = False if mesh.made_up is None else mesh.made_up
    made[len(mesh.faces) :] = True
    colours = None
    if mesh.colours is not None:
        colours = np.concatenate([mesh.colours, np.zeros((len(places) - len(mesh.vertices), 3), np.uint8)])
    near = np.zeros(len(places), bool)
    near[np.concatenate([rim.corners for rim in rims])] = True
    near[len(mesh.vertices) :] = True
    for _ in range(2):
        near[all_faces[near[all_faces].any(axis=1)]] = True
    grown = TriangleMesh(places, all_faces, colours, made)
    return _Grown(
        grown, np.concatenate(patch), np.concatenate(owner) if count > len(mesh.vertices) else np.empty(0, int), near
    )


def _edges_among(mesh: TriangleMesh, rims: list[Rim]) -> set[int]:
    """Edges of the mesh between corners of rims, packed: no triangle may make them a second time."""
    on = np.zeros(len(mesh.vertices), bool)
    on[np.concatenate([rim.corners for rim in rims])] = True
    edges, _, _ = edge_table(mesh.faces)
    edges = edges[on[edges].all(axis=1)]
    return set((edges[:, 0] << 32 | edges[:, 1]).tolist())


def _without_notches(vertices: np.ndarray, rim: Rim, known: set[int]) -> tuple[np.ndarray, Rim]:
    """Triangles (k, 3) that fill the notches of a rim, and what is left of it."""
    loop = rim.corners
    filled: list[np.ndarray] = []
    while len(loop) > 4:
        angle = _angles(vertices[loop].astype(np.float64), rim.normal)
        sharpest = (angle <= np.roll(angle, 1)) & (angle < np.roll(angle, -1))
        before, after = np.roll(loop, 1), np.roll(loop, -1)
        low, high = np.minimum(before, after).astype(np.int64), np.maximum(before, after).astype(np.int64)
        new = np.array([key not in known for key in (low << 32 | high).tolist()])
        notch = np.flatnonzero((angle < np.radians(NOTCH_DEG)) & sharpest & new)[: len(loop) - 4]
        if not len(notch):
            break
        filled.append(np.column_stack([before[notch], loop[notch], after[notch]]))
        known.update((low[notch] << 32 | high[notch]).tolist())
        loop = np.delete(loop, notch)
    if not filled:
        return np.empty((0, 3), np.int64), rim
    return np.concatenate(filled), _rim(vertices, loop)


def _angles(p: np.ndarray, normal: np.ndarray) -> np.ndarray:
    """Angles (k,) of a patch at the corners of its rim, 0 to 2π."""
    a, b = np.roll(p, 1, axis=0) - p, np.roll(p, -1, axis=0) - p
    turned = np.arctan2(np.cross(b, a) @ normal, np.einsum("ij,ij->i", a, b))
    out: np.ndarray = np.mod(turned, 2 * np.pi)
    return out


def _disc(vertices: np.ndarray, rim: Rim, first: int) -> tuple[np.ndarray, np.ndarray]:
    """Triangles (k, 3) that fill a rim, and the new places (j, 3), numbered from `first` on."""
    n = len(rim.corners)
    if n == 3:
        return rim.corners[None], np.empty((0, 3))
    p = vertices[rim.corners].astype(np.float64)
    steps = np.linalg.norm(np.roll(p, -1, axis=0) - p, axis=1)
    along = np.concatenate([[0.0], np.cumsum(steps)]) / max(rim.length_mm, 1e-12)
    side = max(rim.length_mm / n, rim.length_mm / MOST_ROUND)
    radius = np.sqrt(max(rim.area_mm2, 1e-12) / np.pi)
    # A rim whose corners all lie at one place, as a broken mesh may have it, is closed by one ring.
    rings = max(int(round(min(radius / max(RING_HEIGHT * side, 1e-12), n))), 1)
    outer, at = rim.corners, along[:-1]
    faces: list[np.ndarray] = []
    places: list[np.ndarray] = []
    closed = np.concatenate([p, p[:1]])
    for k in range(1, rings):
        share = k / rings
        corners = max(int(round(min(n, MOST_ROUND) * (1 - share))), 3)
        where = np.arange(corners) / corners
        ring = np.column_stack([np.interp(where, along, closed[:, axis]) for axis in range(3)])
        index = first + sum(len(ring) for ring in places) + np.arange(corners)
        places.append(ring * (1 - share) + rim.place * share)
        faces.append(_zipped(outer, at, index, where))
        outer, at = index, where
    middle = first + sum(len(ring) for ring in places)
    places.append(rim.place[None])
    faces.append(np.column_stack([outer, np.roll(outer, -1), np.full(len(outer), middle)]))
    return np.concatenate(faces), np.concatenate(places)


def _zipped(outer: np.ndarray, at: np.ndarray, inner: np.ndarray, where: np.ndarray) -> np.ndarray:
    """Triangles (k, 3) between two rings whose corners lie at `at` and `where` (0-1) round them."""
    nexts = np.concatenate([np.append(at[1:], 1.0), np.append(where[1:], 1.0)])
    # Both rings are gone round together: whose next corner comes first goes on.
    order = np.argsort(nexts, kind="stable")
    outward = order < len(outer)
    i: np.ndarray = np.cumsum(outward) - outward
    j: np.ndarray = np.cumsum(~outward) - ~outward
    a, b = outer[i % len(outer)], inner[j % len(inner)]
    far = np.where(outward, outer[(i + 1) % len(outer)], inner[(j + 1) % len(inner)])
    return np.column_stack([a, far, b])


def _all_but(inner: np.ndarray, count: int) -> np.ndarray:
    held = np.ones(count, bool)
    held[inner] = False
    return np.flatnonzero(held)


def _links(mesh: TriangleMesh) -> csr_matrix:
    """Laplacian (n, n) of the links of a mesh, each of weight one."""
    edges, _, _ = edge_table(mesh.faces)
    n = len(mesh.vertices)
    ones = np.ones(len(edges))
    links = coo_matrix((ones, (edges[:, 0], edges[:, 1])), shape=(n, n)).tocsr()
    links = links + links.T
    return (diags(np.asarray(links.sum(axis=1)).ravel()) - links).tocsr()


def _solved(laplacian: csr_matrix, held: np.ndarray, values: np.ndarray, inner: np.ndarray) -> np.ndarray:
    """Values (k, c) of the inner vertices for which a symmetric operator vanishes, the others held."""
    if not len(inner):
        return np.empty((0, values.shape[1]))
    rows = laplacian[inner]
    right = -(rows[:, held] @ values[held].astype(np.float64))
    return np.asarray(splu(rows[:, inner].tocsc()).solve(np.asarray(right)))


def _plate(faces: np.ndarray, places: np.ndarray, inner: np.ndarray, near: np.ndarray) -> np.ndarray:
    """Places (k, 3) of the inner vertices of the thin plate that goes on from what is around it."""
    local = np.flatnonzero(near)
    number = np.full(len(places), -1)
    number[local] = np.arange(len(local))
    own = number[faces[near[faces].all(axis=1)]]
    p = places[local]
    cotangents, areas = _cotangents(own, p)
    plate = cotangents @ diags(1 / np.maximum(areas, 1e-12 * areas.max(initial=1.0))) @ cotangents
    mine = number[inner]
    return _solved(plate.tocsr(), _all_but(mine, len(local)), p, mine)


def _cotangents(faces: np.ndarray, p: np.ndarray) -> tuple[csr_matrix, np.ndarray]:
    """Cotangent Laplacian (n, n) of a mesh and the area (n,) round every vertex."""
    n = len(p)
    rows, columns, weights = [], [], []
    areas = np.zeros(n)
    for k in range(3):
        a, b, c = faces[:, k], faces[:, (k + 1) % 3], faces[:, (k + 2) % 3]
        u, v = p[a] - p[c], p[b] - p[c]
        double = np.linalg.norm(np.cross(u, v), axis=1)
        cot = np.einsum("ij,ij->i", u, v) / np.maximum(double, 1e-12)
        weights.append(np.maximum(cot / 2, LEAST_WEIGHT))
        rows.append(a)
        columns.append(b)
        np.add.at(areas, c, double / 6)
    i: np.ndarray = np.concatenate(rows)
    j: np.ndarray = np.concatenate(columns)
    w: np.ndarray = np.concatenate(weights)
    links = coo_matrix((np.concatenate([w, w]), (np.concatenate([i, j]), np.concatenate([j, i]))), shape=(n, n)).tocsr()
    return (diags(np.asarray(links.sum(axis=1)).ravel()) - links).tocsr(), areas
