"""Shared data types; they import nothing of the core but its errors."""

from lucid_relic.types.camera import Camera
from lucid_relic.types.cloud import PointCloud
from lucid_relic.types.mesh import Texture, TriangleMesh
from lucid_relic.types.state import FrameSource, Part, PassState, ScanState, Turntable, Volume

__all__ = [
    "Camera",
    "FrameSource",
    "Part",
    "PassState",
    "PointCloud",
    "ScanState",
    "Texture",
    "TriangleMesh",
    "Turntable",
    "Volume",
]
