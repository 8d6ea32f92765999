"""Takes: fusions of an object that stand beside each other until one is kept."""

from dataclasses import dataclass
from typing import Any, Protocol

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
    """A named fusion; told says in plain JSON how it was made: voxel_mm, character, passes and triangles."""

    name: str
    told: dict[str, Any]
    shape: TakeShape
