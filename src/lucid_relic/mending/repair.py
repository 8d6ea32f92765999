"""Repair of a mesh that comes in broken: it ends closed, manifold and turned outwards, with a list of what was done.

Nothing is moved that is sound. Faults are taken out (places that are no numbers, triangles without area, doubled ones, fins on
edges that more than two triangles share, triangles that cross), sides are turned alike, and the holes that are left are
closed as the surface around them bends.
"""

from dataclasses import dataclass, field, replace

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import breadth_first_order, connected_components

from lucid_relic.errors import StepNotPossible
from lucid_relic.geometry.bvh import TriangleTree
from lucid_relic.geometry.topology import (
    corner_fans,
    edge_table,
    face_components,
    is_watertight,
    side_pairs,
    split_fans,
)
from lucid_relic.mending.rims import close_rims, find_rims
from lucid_relic.mending.untangle import untangled
from lucid_relic.progress import Progress, silent
from lucid_relic.types import TriangleMesh

NO_AREA = 1e-9  # of the squared usual side: a triangle with less has none
WELD = 1e-6  # of the size, within which open borders that lie on each other are one
ROUNDS = 6  # of taking out what crosses and closing again
GIVING_UP = 4  # rounds after which what crosses is drawn apart, which moves what is sound as well
SPECK = 1e-3  # of the largest piece's area: open pieces with less are scraps
MOST_INSIDE = 200  # pieces that are asked whether they lie inside another


@dataclass
class Repaired:
    """The mesh, and how often each thing was done, by its words; sound says that it is closed and manifold."""

    mesh: TriangleMesh
    done: dict[str, int] = field(default_factory=dict)
    sound: bool = False

    def note(self, what: str, count: int) -> None:
        if count:
            self.done[what] = self.done.get(what, 0) + int(count)

    def keep(self, faces: np.ndarray, what: str) -> None:
        """Go on with the faces that are true (m,), the others noted as taken out."""
        if not faces.all():
            self.note(what, int((~faces).sum()))
            self.mesh = self.mesh.select_faces(faces)


def repair(mesh: TriangleMesh, progress: Progress = silent) -> Repaired:
    """Mend all faults of a mesh; a texture is taken off where patches are made.

    Raises `StepNotPossible` when nothing sound is left.
    """
    work = Repaired(mesh)
    progress(0.0, "Taking out what is no surface")
    finite = np.isfinite(mesh.vertices).all(axis=1)
    work.keep(finite[mesh.faces].all(axis=1), "triangles with places that are no numbers taken out")
    _without_area(work)
    _welded(work)
    _without_doubles(work)
    _some_left(work)
    progress(0.2, "Sorting out edges")
    _without_fins(work)
    _apart(work)
    _turned_alike(work)
    _without_scraps(work)
    for k in range(ROUNDS):
        progress(0.3 + 0.6 * k / ROUNDS, "Closing holes and looking for crossings")
        _uncrossed(work, rings=k // 2, drawn_apart=k >= GIVING_UP)
        _closed(work, flat_first=k % 2 == 1)
        if not len(TriangleTree(work.mesh).crossing_faces()) and _is_sound(work.mesh):
            break
    _outwards(work)
    work.sound = _is_sound(work.mesh)
    progress(1.0, "Repaired")
    return work


def _some_left(work: Repaired) -> None:
    if not len(work.mesh.faces):
        raise StepNotPossible("Nothing sound is left of this mesh: every triangle has a fault.")


def _without_area(work: Repaired) -> None:
    """Triangles that name a corner twice go; of those without area the short side is drawn together, or the long one turned."""
    f = work.mesh.faces
    named_twice = (f[:, 0] == f[:, 1]) | (f[:, 1] == f[:, 2]) | (f[:, 2] == f[:, 0])
    work.keep(~named_twice, "triangles that name a corner twice taken out")
    _some_left(work)
    mesh = work.mesh
    corners = mesh.corners.astype(np.float64)
    sides = np.linalg.norm(np.roll(corners, -1, axis=1) - corners, axis=2)
    usual = float(np.median(sides.max(axis=1)))
    flat = np.flatnonzero(np.linalg.norm(mesh.face_normals(), axis=1) <= NO_AREA * usual**2)
    if not len(flat):
        return
    faces = mesh.faces.copy()
    short = flat[sides[flat].min(axis=1) <= WELD * usual]
    into = np.arange(len(mesh.vertices))
    for face in short.tolist():
        k = int(np.argmin(sides[face]))
        into[into == into[faces[face, (k + 1) % 3]]] = into[faces[face, k]]
    faces = into[faces].astype(np.int32)
    gone = (faces[:, 0] == faces[:, 1]) | (faces[:, 1] == faces[:, 2]) | (faces[:, 2] == faces[:, 0])
    _turn_long_sides(faces, np.setdiff1d(flat, short), sides)
    work.note("triangles without area mended", len(flat))
    work.mesh = replace(mesh, faces=faces).select_faces(~gone)


def _turn_long_sides(faces: np.ndarray, flat: np.ndarray, sides: np.ndarray) -> None:
    """Turn the edge between a triangle whose corner lies on its longest side and its neighbour there, in place."""
    touched: set[int] = set()
    known = {}
    for a, b in zip(*side_pairs(faces), strict=True):
        known[int(a)], known[int(b)] = int(b), int(a)
    for face in flat.tolist():
        side = face * 3 + int(np.argmax(sides[face]))
        other = known.get(side)
        if other is None or {face, other // 3} & touched:
            continue
        a, b, c = (int(faces[face, (side % 3 + k) % 3]) for k in range(3))
        d = int(faces[other // 3, (other % 3 + 2) % 3])
        if d in (a, b, c):
            continue
        faces[face], faces[other // 3] = (c, a, d), (d, b, c)
        touched |= {face, other // 3}


def _welded(work: Repaired) -> None:
    """Corners at the very same place become one, and so do open borders that lie on each other."""
    mesh = work.mesh
    _, first, same = np.unique(mesh.vertices, axis=0, return_index=True, return_inverse=True)
    faces = first[same.ravel()][mesh.faces]
    edges, counts, _ = edge_table(faces)
    border = np.unique(edges[counts == 1])
    if len(border):
        size = float(np.linalg.norm(np.ptp(mesh.vertices, axis=0)))
        cells = np.floor(mesh.vertices[border].astype(np.float64) / max(WELD * size, 1e-12) + 0.5).astype(np.int64)
        _, lead, cell = np.unique(cells, axis=0, return_index=True, return_inverse=True)
        into = np.arange(len(mesh.vertices))
        into[border] = border[lead[cell.ravel()]]
        faces = into[faces]
    used = len(np.unique(mesh.faces))
    work.note("corners at the same place made one", used - len(np.unique(faces)))
    work.mesh = replace(mesh, faces=faces.astype(np.int32))
    f = work.mesh.faces
    work.keep(
        (f[:, 0] != f[:, 1]) & (f[:, 1] != f[:, 2]) & (f[:, 2] != f[:, 0]),
        "triangles that name a corner twice taken out",
    )


def _without_doubles(work: Repaired) -> None:
    keys = np.sort(work.mesh.faces, axis=1)
    first = np.zeros(len(keys), bool)
    first[np.unique(keys, axis=0, return_index=True)[1]] = True
    work.keep(first, "doubled triangles taken out")


def _without_fins(work: Repaired) -> None:
    """At edges that more than two triangles share, those that end in the open go, again and again."""
    while True:
        _some_left(work)
        _, counts, of_side = edge_table(work.mesh.faces)
        many, free = counts[of_side] > 2, counts[of_side] == 1
        fins = many.any(axis=1) & free.any(axis=1)
        if not fins.any():
            return
        work.keep(~fins, "triangles that stand off an edge taken out")


def _apart(work: Repaired) -> None:
    """Bodies that share an edge or a corner are parted there: every fan over sound edges gets corners of its own."""
    mesh = work.mesh
    before = len(np.unique(mesh.faces))
    _, counts, of_side = edge_table(mesh.faces)
    fans = corner_fans(mesh.faces, (counts == 2)[of_side])
    _, first, corner = np.unique(fans.ravel(), return_index=True, return_inverse=True)
    vertex = mesh.faces.ravel()[first]
    work.mesh = TriangleMesh(
        mesh.vertices[vertex], corner.reshape(-1, 3).astype(np.int32),
        None if mesh.colours is None else mesh.colours[vertex], mesh.made_up, mesh.texture,
    )  # fmt: skip
    work.note("corners shared by several bodies parted", len(vertex) - before)


def _turned_alike(work: Repaired) -> None:
    """Neighbours run through their edge opposite ways: in every piece the side that has more of the area is right."""
    mesh = work.mesh
    m = len(mesh.faces)
    a, b = side_pairs(mesh.faces)
    ends = mesh.faces.ravel()
    against = ends[a] == ends[b]  # both run through the edge from the same corner
    graph = coo_matrix((np.ones(len(a), np.int8), (a // 3, b // 3)), shape=(m, m)).tocsr()
    pieces, piece = connected_components(graph, directed=False)
    # One more face joins all pieces, so that one walk reaches every face.
    roots = np.unique(piece, return_index=True)[1]
    i = np.concatenate([a // 3, np.full(pieces, m)])
    j = np.concatenate([b // 3, roots])
    whole = coo_matrix((np.ones(len(i), np.int8), (i, j)), shape=(m + 1, m + 1)).tocsr()
    _, parent = breadth_first_order(whole, m, directed=False)
    parent[m] = m
    # The edge to each face's parent tells whether the two are turned against each other.
    flips = {}
    for f, g, x in zip((a // 3).tolist(), (b // 3).tolist(), against.tolist(), strict=True):
        if x:
            flips[(f, g)] = flips[(g, f)] = True
    turned = np.zeros(m + 1, bool)
    turned[[f for f, g in flips if parent[f] == g]] = True
    while (parent != m).any():
        turned = turned ^ np.where(parent != m, turned[parent], False)
        parent = parent[parent]
    turned = turned[:m]
    area = np.linalg.norm(mesh.face_normals(), axis=1)
    more = np.bincount(piece, np.where(turned, area, -area), pieces) > 0
    turned = turned ^ more[piece]
    faces = mesh.faces.copy()
    faces[turned] = faces[turned][:, ::-1]
    work.note("triangles turned round", int(turned.sum()))
    texture = mesh.texture
    if texture is not None and turned.any():
        uv = texture.uv.copy()
        uv[turned] = uv[turned][:, ::-1]
        texture = replace(texture, uv=uv)
    work.mesh = replace(mesh, faces=faces, texture=texture)
    # What cannot be turned alike has one side only, like a band with a twist: it is cut open there.
    a, b = side_pairs(faces)
    twisted = np.ones(m, bool)
    twisted[a[faces.ravel()[a] == faces.ravel()[b]] // 3] = False
    work.keep(twisted, "triangles of a surface with one side only taken out")


def _without_scraps(work: Repaired) -> None:
    _some_left(work)
    pieces, piece = face_components(work.mesh.faces)
    if pieces == 1:
        return
    area = np.bincount(piece, np.linalg.norm(work.mesh.face_normals(), axis=1))
    _, counts, of_side = edge_table(work.mesh.faces)
    open_ = np.bincount(piece, (counts[of_side] == 1).any(axis=1)) > 0
    scraps = open_ & (area < SPECK * area.max())
    work.keep(~scraps[piece], "triangles of open scraps taken out")


def _uncrossed(work: Repaired, rings: int, drawn_apart: bool) -> None:
    """Crossing triangles go, with so many rings around them; in the end those that are left are drawn apart first."""
    crossing = TriangleTree(work.mesh).crossing_faces()
    if drawn_apart and len(crossing):
        mesh, left = untangled(work.mesh)
        moved = int((mesh.vertices != work.mesh.vertices).any(axis=1).sum())
        work.note("corners of crossing triangles drawn apart", moved)
        work.mesh, crossing = mesh, left
    if len(crossing):
        keep = np.ones(len(work.mesh.faces), bool)
        keep[crossing] = False
        for _ in range(rings):
            around = np.zeros(len(work.mesh.vertices), bool)
            around[work.mesh.faces[~keep]] = True
            keep &= ~around[work.mesh.faces].any(axis=1)
        work.keep(keep, "crossing triangles taken out")
        _without_scraps(work)
        work.mesh = split_fans(work.mesh)


def _closed(work: Repaired, flat_first: bool) -> None:
    """Every hole is closed; where rims are too broken for it, what is around them goes first."""
    for flat in (flat_first, True, True):
        rims = find_rims(work.mesh)
        if rims:
            work.mesh, _ = close_rims(work.mesh, rims, flat)
            work.note("holes closed", len(rims))
        edges, counts, _ = edge_table(work.mesh.faces)
        if (counts == 2).all():
            return
        bad = np.zeros(len(work.mesh.vertices), bool)
        bad[edges[counts != 2]] = True
        work.keep(~bad[work.mesh.faces].any(axis=1), "triangles at broken rims taken out")
        _some_left(work)
        work.mesh = split_fans(work.mesh)


def _outwards(work: Repaired) -> None:
    """Bodies are turned so that their normals point outwards; a cavity in a body points into itself."""
    mesh = work.mesh
    pieces, piece = face_components(mesh.faces)
    p = mesh.corners.astype(np.float64) - mesh.vertices.mean(axis=0)
    volume = np.bincount(piece, np.einsum("ij,ij->i", p[:, 0], np.cross(p[:, 1], p[:, 2])) / 6, pieces)
    wrong = volume < 0
    for k in np.flatnonzero(wrong)[:MOST_INSIDE]:
        if abs(volume[k]) < np.abs(volume).max() and _inside(p[piece == k][0, 0], p[piece != k]):
            wrong[k] = False
    if wrong.any():
        faces = mesh.faces.copy()
        faces[wrong[piece]] = faces[wrong[piece]][:, ::-1]
        work.note("bodies turned outwards", int(wrong.sum()))
        work.mesh = replace(mesh, faces=faces)


def _inside(place: np.ndarray, corners: np.ndarray) -> bool:
    """Whether triangles (m, 3, 3) go round a place: their solid angles (Van Oosterom & Strackee 1983) add up to a whole."""
    a, b, c = (corners[:, k] - place for k in range(3))
    la, lb, lc = (np.linalg.norm(v, axis=1) for v in (a, b, c))
    top = np.einsum("ij,ij->i", a, np.cross(b, c))
    dot = lambda u, v: np.einsum("ij,ij->i", u, v)  # noqa: E731
    angle = 2 * np.arctan2(top, la * lb * lc + dot(a, b) * lc + dot(b, c) * la + dot(c, a) * lb)
    return bool(abs(angle.sum()) > 2 * np.pi)


def _is_sound(mesh: TriangleMesh) -> bool:
    _, counts, _ = edge_table(mesh.faces)
    return is_watertight(mesh.faces, counts) and len(np.unique(corner_fans(mesh.faces))) == len(np.unique(mesh.faces))
