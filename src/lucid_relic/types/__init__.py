"""Shared data types; they import nothing of the core but its errors."""

from lucid_relic.types.camera import Camera
from lucid_relic.types.cloud import PointCloud
from lucid_relic.types.marks import BallStroke, JoinedStroke, Marks, ScreenStroke, Stroke
from lucid_relic.types.mesh import Texture, TriangleMesh
from lucid_relic.types.state import FrameSource, Part, PassState, ScanState, Turntable, Volume
from lucid_relic.types.view import View, ViewLine

__all__ = [
    "BallStroke",
    "Camera",
    "FrameSource",
    "JoinedStroke",
    "Marks",
    "Part",
    "PassState",
    "PointCloud",
    "ScanState",
    "ScreenStroke",
    "Stroke",
    "Texture",
    "TriangleMesh",
    "Turntable",
    "View",
    "ViewLine",
    "Volume",
]
