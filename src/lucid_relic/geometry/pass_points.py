"""The points of a whole pass, thinned frame by frame so that memory stays bounded."""

from collections.abc import Iterable

import numpy as np

from lucid_relic.geometry.depth_map import frame_map
from lucid_relic.geometry.points import thin
from lucid_relic.geometry.rigid import transform_points
from lucid_relic.progress import Progress, silent
from lucid_relic.types import PassState, PointCloud


def pass_points(
    scan: PassState,
    voxel_mm: float,
    cleaned: bool = True,
    frames: Iterable[int] | None = None,
    coloured: bool = False,
    progress: Progress = silent,
) -> PointCloud:
    """Points, normals and (if asked) colours of a pass in the pass's frame, one per voxel."""
    chosen = scan.frames_used() if frames is None else list(frames)
    parts = []
    for done, index in enumerate(chosen):
        progress(done / len(chosen), f"Gathering the points of “{scan.title}”")
        parts.append(frame_points(scan, index, cleaned, coloured, voxel_mm))
    if not parts:
        empty = np.empty((0, 3), np.float32)
        return PointCloud(empty, empty, empty.astype(np.uint8) if coloured else None)
    stack = lambda name: np.concatenate([getattr(part, name) for part in parts])  # noqa: E731
    merged = PointCloud(stack("points"), stack("normals"), stack("colours") if coloured else None)
    return thin(merged, voxel_mm)


def frame_points(scan: PassState, index: int, cleaned: bool, coloured: bool, voxel_mm: float) -> PointCloud:
    """One frame's thinned points in the pass's frame."""
    cloud, _, confidence = measured_points(scan, index, cleaned, coloured)
    return thin(cloud, voxel_mm, confidence)


def measured_points(
    scan: PassState, index: int, cleaned: bool, coloured: bool
) -> tuple[PointCloud, np.ndarray, np.ndarray]:
    """All usable points of one frame in the pass's frame, their pixels (row · width + column) and confidence (n,)."""
    surface = frame_map(scan, index, cleaned)
    mask = surface.confidence > 0
    pose = scan.frame_poses[index]
    points = transform_points(pose, surface.points(mask, surface.unshrunk()))
    normals = (surface.normals[mask] @ pose[:3, :3].T).astype(np.float32)
    colours = None
    if coloured:
        image = scan.colour_in_depth_view(index)
        colours = np.full((len(points), 3), 170, np.uint8) if image is None else image[mask]
    cloud = PointCloud(points.astype(np.float32), normals, colours)
    return cloud, np.flatnonzero(mask), surface.confidence[mask]
