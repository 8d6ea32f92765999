"""Shared data types; they import nothing of the core but its errors."""

from lucid_relic.types.camera import Camera
from lucid_relic.types.cloud import UNITS_MM, MeasuredCloud, PointCloud
from lucid_relic.types.instrument import Instrument, Shutter, Stop
from lucid_relic.types.marks import BallStroke, JoinedStroke, Marks, ScreenStroke, Stroke
from lucid_relic.types.mesh import Texture, TriangleMesh
from lucid_relic.types.state import (
    NO_CAMERA,
    FrameSource,
    MarkedSource,
    Part,
    PassState,
    ScaledSource,
    ScanState,
    Turntable,
)
from lucid_relic.types.take import HeldShape, Take, TakeShape
from lucid_relic.types.view import View, ViewLine
from lucid_relic.types.volume import Volume

__all__ = [
    "NO_CAMERA",
    "UNITS_MM",
    "BallStroke",
    "Camera",
    "HeldShape",
    "FrameSource",
    "MarkedSource",
    "Instrument",
    "JoinedStroke",
    "Marks",
    "MeasuredCloud",
    "Part",
    "PassState",
    "PointCloud",
    "ScaledSource",
    "ScanState",
    "ScreenStroke",
    "Shutter",
    "Stop",
    "Stroke",
    "Take",
    "TakeShape",
    "Texture",
    "TriangleMesh",
    "Turntable",
    "View",
    "ViewLine",
    "Volume",
]
