"""Takes: fusions of an object that stand beside each other until one is kept."""

from dataclasses import dataclass, field, replace
from typing import Any, Protocol

import numpy as np

from lucid_relic.types.mesh import TriangleMesh
from lucid_relic.types.volume import Volume


class TakeShape(Protocol):
    """What a fusion made, held in memory or lying in a store until it is asked for."""

    def mesh(self) -> TriangleMesh:
        """The measured surface as it was fused."""

    def volume(self) -> Volume | None:
        """The field it was made from."""


@dataclass(frozen=True)
class HeldShape:
    """A fusion that was just made."""

    fused: TriangleMesh
    field: Volume | None

    def mesh(self) -> TriangleMesh:
        return self.fused

    def volume(self) -> Volume | None:
        return self.field


@dataclass(frozen=True)
class Take:
    """A named fusion; told says in plain JSON how it was made: voxel_mm, character, passes and triangles.

    S_object_take (4, 4) is how the object was moved and scaled since.
    """

    name: str
    told: dict[str, Any]
    shape: TakeShape
    S_object_take: np.ndarray = field(default_factory=lambda: np.eye(4))

    def mesh(self) -> TriangleMesh:
        """The measured surface as it was fused, where the object lies now."""
        mesh = self.shape.mesh()
        return mesh if self.is_where_it_was else mesh.transformed(self.S_object_take)

    def volume(self) -> Volume | None:
        """The field it was made from; none once the object was moved: its voxels stand square to the old axes."""
        return self.shape.volume() if self.is_where_it_was else None

    def moved(self, S: np.ndarray) -> "Take":
        """The take on an object that is moved and scaled by a similarity (4, 4)."""
        return replace(self, S_object_take=S @ self.S_object_take)

    @property
    def is_where_it_was(self) -> bool:
        return np.array_equal(self.S_object_take, np.eye(4))
