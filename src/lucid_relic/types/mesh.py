"""Triangle meshes with what the job needs to know about each triangle."""

from dataclasses import dataclass, replace

import numpy as np

from lucid_relic.errors import InputError


@dataclass(frozen=True)
class Texture:
    """An sRGB image laid on a mesh.

    image is (s, s, 3) uint8, row 0 at the top; uv is (m, 3, 2) float32 per triangle corner with
    v = 0 at the bottom, as in OBJ; seen is the fraction of covered texels that a photograph saw, and
    unseen (s, s) bool, where known, marks the covered texels that took their colour from around them.
    photo (t, t) uint16, where known, says on a coarser grid of the same square which of photos (title of a pass and
    number of a frame) shows best what lies there, counted from 1; 0 is none.
    """

    image: np.ndarray
    uv: np.ndarray
    seen: float
    unseen: np.ndarray | None = None
    photo: np.ndarray | None = None
    photos: tuple[tuple[str, int], ...] = ()

    def at(self, uv: np.ndarray) -> np.ndarray:
        """(n, 3) uint8 sRGB at places uv (n, 2), mixed from the four texels around; beyond a border it repeats."""
        side = len(self.image)
        x, y = (uv[:, 0] % 1) * side - 0.5, (1 - uv[:, 1] % 1) * side - 0.5
        left, top = np.floor(x).astype(np.int64), np.floor(y).astype(np.int64)
        a, b = (x - left)[:, None], (y - top)[:, None]
        part = lambda i, j: self.image[i % side, j % side].astype(np.float32)  # noqa: E731
        above = (1 - a) * part(top, left) + a * part(top, left + 1)
        below = (1 - a) * part(top + 1, left) + a * part(top + 1, left + 1)
        return np.round((1 - b) * above + b * below).astype(np.uint8)


@dataclass(frozen=True)
class TriangleMesh:
    """vertices (n, 3) float32 mm, faces (m, 3) int32 counter-clockwise seen from outside.

    colours is (n, 3) uint8 sRGB or None; made_up is (m,) bool, true where no frame measured the
    triangle, or None when nothing is known; texture is a `Texture` or None. roughness (0 polished to 1 matt) is what
    renderers are told of it once it is handed over.
    """

    vertices: np.ndarray
    faces: np.ndarray
    colours: np.ndarray | None = None
    made_up: np.ndarray | None = None
    texture: Texture | None = None
    roughness: float = 0.8

    def __post_init__(self) -> None:
        if self.vertices.ndim != 2 or self.vertices.shape[1] != 3:
            raise InputError(f"mesh: vertices must be (n, 3), got {self.vertices.shape}")
        if self.faces.ndim != 2 or self.faces.shape[1] != 3:
            raise InputError(f"mesh: faces must be (m, 3), got {self.faces.shape}")
        if len(self.faces) and (self.faces.min() < 0 or self.faces.max() >= len(self.vertices)):
            raise InputError("mesh: a face names a vertex that does not exist")

    @property
    def corners(self) -> np.ndarray:
        """(m, 3, 3) vertex positions of every face."""
        return self.vertices[self.faces]

    def face_centres(self) -> np.ndarray:
        """(m, 3) float32 middle of every face."""
        a, b, c = (self.vertices[self.faces[:, k]] for k in range(3))
        return (a + b + c) / np.float32(3)

    def usual_side(self) -> float:
        """The median length (mm) of the sides of its faces."""
        return float(np.median(np.linalg.norm(self.corners - np.roll(self.corners, 1, axis=1), axis=2)))

    def face_normals(self) -> np.ndarray:
        """(m, 3) float64 normals whose length is twice the triangle's area in mm²."""
        p = self.corners.astype(np.float64)
        return np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0])

    def vertex_normals(self) -> np.ndarray:
        """(n, 3) float32 unit normals, area-weighted; zero where a vertex has no face."""
        normals = np.zeros((len(self.vertices), 3))
        per_face = self.face_normals()
        for corner in range(3):
            for axis in range(3):
                normals[:, axis] += np.bincount(self.faces[:, corner], per_face[:, axis], len(self.vertices))
        length = np.linalg.norm(normals, axis=1, keepdims=True)
        return (normals / np.where(length > 0, length, 1)).astype(np.float32)

    def area_mm2(self) -> float:
        """Surface area in mm²."""
        return float(np.linalg.norm(self.face_normals(), axis=1).sum() / 2)

    def volume_mm3(self) -> float:
        """Signed volume in mm³ by the divergence theorem; meaningful for closed meshes only."""
        if not len(self.faces):
            return 0.0
        p = self.corners.astype(np.float64) - self.vertices.mean(axis=0)
        return float(np.einsum("ij,ij->i", p[:, 0], np.cross(p[:, 1], p[:, 2])).sum() / 6)

    def made_up_area_fraction(self) -> float:
        """Share of the area, 0-1, that no frame measured."""
        if self.made_up is None or not len(self.faces):
            return 0.0
        area = np.linalg.norm(self.face_normals(), axis=1)
        return float(area[self.made_up].sum() / max(area.sum(), 1e-30))

    def transformed(self, transform: np.ndarray) -> "TriangleMesh":
        """The mesh moved by a 4×4 matrix (mm)."""
        moved = self.vertices @ transform[:3, :3].T + transform[:3, 3]
        faces = self.faces
        if np.linalg.det(transform[:3, :3]) < 0:
            faces = np.ascontiguousarray(faces[:, ::-1])
        return replace(self, vertices=moved.astype(np.float32), faces=faces)

    def without_texture(self) -> "TriangleMesh":
        """The same mesh with its texture taken off."""
        return replace(self, texture=None)

    def select_faces(self, mask: np.ndarray) -> "TriangleMesh":
        """Only the faces where `mask` (m,) is true, with unused vertices dropped."""
        faces = self.faces[mask]
        used, new = np.unique(faces, return_inverse=True)
        texture = self.texture
        if texture is not None:
            texture = replace(texture, uv=texture.uv[mask])
        return TriangleMesh(
            self.vertices[used],
            new.reshape(-1, 3).astype(np.int32),
            None if self.colours is None else self.colours[used],
            None if self.made_up is None else self.made_up[mask],
            texture,
        )
