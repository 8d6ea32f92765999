"""What is right and wrong with a mesh, in figures."""

from dataclasses import asdict, dataclass
from typing import Any

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from lucid_relic.geometry.bvh import TriangleTree
from lucid_relic.geometry.topology import consistently_oriented, corner_fans, edge_table, face_components, is_watertight
from lucid_relic.types import TriangleMesh


@dataclass(frozen=True)
class MeshReport:
    """The figures of `inspect`; volume and genus (handles of all pieces together) are None unless it is watertight."""

    watertight: bool
    edge_manifold: bool
    vertex_manifold: bool
    self_intersections: int
    components: int
    genus: int | None
    triangles: int
    vertices: int
    boundary_edges: int
    holes: int
    volume_mm3: float | None
    area_mm2: float
    bounds_mm: list[list[float]]

    def as_dict(self) -> dict[str, Any]:
        return asdict(self)


def boundary_loops(faces: np.ndarray) -> int:
    """Number of connected runs of border edges."""
    edges, counts, _ = edge_table(faces)
    border = edges[counts == 1]
    if not len(border):
        return 0
    used, local = np.unique(border, return_inverse=True)
    local = local.reshape(-1, 2)
    graph = coo_matrix((np.ones(len(local)), (local[:, 0], local[:, 1])), shape=(len(used),) * 2)
    return int(connected_components(graph, directed=False)[0])


def is_vertex_manifold(faces: np.ndarray) -> bool:
    """True when the faces around every vertex form one fan, open or closed."""
    if not len(faces):
        return True
    fans = np.unique(np.stack([faces.ravel().astype(np.int64), corner_fans(faces).ravel()]), axis=1)
    return bool(len(fans[0]) == len(np.unique(faces)))


def check_mesh(mesh: TriangleMesh, crossings: bool = True) -> MeshReport:
    """Judge a mesh; counting self-intersections is the slow part and may be left out (-1)."""
    edges, counts, _ = edge_table(mesh.faces) if len(mesh.faces) else (np.empty((0, 2)), np.empty(0), None)
    edge_manifold = bool((counts <= 2).all()) and consistently_oriented(mesh.faces)
    watertight = is_watertight(mesh.faces, counts)
    components = face_components(mesh.faces)[0]
    used = mesh.vertices[np.unique(mesh.faces)] if len(mesh.faces) else np.zeros((1, 3))
    return MeshReport(
        watertight=watertight,
        edge_manifold=edge_manifold,
        vertex_manifold=is_vertex_manifold(mesh.faces),
        self_intersections=_crossings(mesh) if crossings else -1,
        components=components,
        genus=components - (len(np.unique(mesh.faces)) - len(edges) + len(mesh.faces)) // 2 if watertight else None,
        triangles=len(mesh.faces),
        vertices=len(mesh.vertices),
        boundary_edges=int((counts == 1).sum()),
        holes=boundary_loops(mesh.faces),
        volume_mm3=mesh.volume_mm3() if watertight else None,
        area_mm2=mesh.area_mm2(),
        bounds_mm=[used.min(axis=0).tolist(), used.max(axis=0).tolist()],
    )


def _crossings(mesh: TriangleMesh) -> int:
    return TriangleTree(mesh).crossings() if len(mesh.faces) else 0
