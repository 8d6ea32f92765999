"""Patches laid onto the walls around them, where these go on as planes and quadrics."""

import numpy as np
from scipy.sparse import csr_matrix

from lucid_relic.fusion.continued import Continued, continued
from lucid_relic.types import TriangleMesh

LEAST_INNER = 200  # vertices of a patch: smaller ones are near enough to what bends as their rim does
BANDS = (0.05, 0.1)  # widths of surroundings, in sizes of the patch: what lies farther off is another wall
LEAST_RINGS = 5  # of vertices in such a band
WITHIN_SIDES, WITHIN_SIZE = 0.2, 0.002  # how near to a sheet a place lies on it: sides of triangles, sizes of the patch
EASED, FADING = 12, 0.8  # steps from the rim over which what it is off fades, and what stays of it at each
MOST_SPANNED = 2.0  # sides of triangles that the middle of one may lie off the walls: at an edge it spans half a side
LEAST_FACING = 0.97  # of the triangles that face as the sheets do: where more turned over it folded


class Walls:
    """The measured vertices of a mesh as walls that its patches may go on with; links (n, n) join vertices with sides."""

    def __init__(self, mesh: TriangleMesh, links: csr_matrix, measured: np.ndarray) -> None:
        self.mesh, self.links, self.measured = mesh, links, measured

    def _normals(self, band: np.ndarray) -> np.ndarray:
        """(k, 3) unit normals of some measured vertices, in which made-up faces have no part."""
        asked = np.zeros(len(self.mesh.vertices), bool)
        asked[band] = True
        around = asked[self.mesh.faces].any(axis=1) & ~self.mesh.made_up
        used, faces = np.unique(self.mesh.faces[around], return_inverse=True)
        normals = TriangleMesh(self.mesh.vertices[used], faces.reshape(-1, 3).astype(np.int32)).vertex_normals()
        return normals[np.searchsorted(used, band)]

    def gone_on(self, inner: np.ndarray, start: np.ndarray, size_mm: float) -> np.ndarray | None:
        """Places (k, 3) of the vertices `inner` of a patch on the walls around it, from `start`; None where no few sheets hold these."""
        if len(inner) < LEAST_INNER:
            return None
        ring = np.unique(self.links[inner].indices)
        rim = ring[self.measured[ring]]
        if len(rim) < 3:
            return None
        side = self._mean_side(rim)
        within = max(WITHIN_SIDES * side, WITHIN_SIZE * size_mm)
        asked = {max(int(share * size_mm / side), LEAST_RINGS) for share in BANDS}
        bands = [self._around(rim, rings) for rings in sorted(asked)]
        found = [continued(self.mesh.vertices[band], self._normals(band), within) for band in bands]
        best = max((one for one in found if one is not None), key=lambda one: one.covered, default=None)
        if best is None:
            return None
        moved = best.onto(start, 0.1 * size_mm)
        return self._eased(inner, rim, moved, best) if self._lies_on(best, inner, moved, side) else None

    def _mean_side(self, rim: np.ndarray) -> float:
        """The mean length (mm) of the sides at some vertices."""
        rows = self.links[rim]
        from_, to = np.repeat(rim, np.diff(rows.indptr)), rows.indices
        return float(np.linalg.norm(self.mesh.vertices[to] - self.mesh.vertices[from_], axis=1).mean())

    def _around(self, rim: np.ndarray, rings: int) -> np.ndarray:
        """The rim's measured vertices and those of some rings around it."""
        held = np.zeros(len(self.measured), bool)
        held[rim] = True
        fresh = rim
        for _ in range(rings):
            near = np.unique(self.links[fresh].indices)
            fresh = near[self.measured[near] & ~held[near]]
            held[fresh] = True
        return np.flatnonzero(held)

    def _lies_on(self, walls: Continued, inner: np.ndarray, moved: np.ndarray, side: float) -> bool:
        """Whether the patch, once it is moved, faces outwards and lies on the walls between its vertices too.

        A lid over walls that only lead away from it would be torn apart to them.
        """
        faces = self.mesh.faces[np.isin(self.mesh.faces, inner).any(axis=1)]
        places = self.mesh.vertices.astype(np.float64)
        places[inner] = moved
        a, b, c = (places[faces[:, k]] for k in range(3))
        away, outward = walls.at((a + b + c) / 3)
        faces_out = (np.cross(b - a, c - a) * outward).sum(axis=1) > 0
        return bool(faces_out.mean() > LEAST_FACING and np.abs(away).max() < MOST_SPANNED * side)

    def _eased(self, inner: np.ndarray, rim: np.ndarray, moved: np.ndarray, walls: Continued) -> np.ndarray:
        """The moved vertices without a step at the rim: what it lies off the walls fades from it inwards."""
        known = np.union1d(inner, rim)
        off = np.zeros((len(known), 3))
        own, at_rim = np.searchsorted(known, inner), np.searchsorted(known, rim)
        measured = self.mesh.vertices[rim].astype(np.float64)
        off[at_rim] = measured - walls.onto(measured, np.inf)
        around = self.links[inner][:, known]
        count = np.maximum(np.asarray(around.sum(axis=1)), 1)
        for _ in range(EASED):
            off[own] = FADING * (around @ off) / count
        return moved + off[own]
