"""The points of a whole pass: of its frames, thinned one by one so that memory stays bounded, or as it came."""

from collections.abc import Iterable

import numpy as np

from lucid_relic.geometry.depth_map import DepthMap, frame_map
from lucid_relic.geometry.points import thin
from lucid_relic.geometry.rigid import transform_points
from lucid_relic.progress import Progress, silent
from lucid_relic.types import PassState, PointCloud

UNCOLOURED = 170  # byte of what has no colour


def pass_points(
    scan: PassState,
    voxel_mm: float,
    cleaned: bool = True,
    frames: Iterable[int] | None = None,
    coloured: bool = False,
    progress: Progress = silent,
) -> PointCloud:
    """Points, normals and (if asked) colours of a pass in the pass's frame, one per voxel.

    frames are those to take; a pass of points is taken whole.
    """
    if scan.cloud is not None:
        return thin(came_points(scan, cleaned, coloured), voxel_mm)
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


def came_points(scan: PassState, cleaned: bool, coloured: bool) -> PointCloud:
    """The points of a pass of points, in its frame, in the order they came in."""
    cloud = scan.cloud.cloud
    colours = cloud.colours if coloured else None
    if coloured and colours is None:
        colours = np.full((len(cloud), 3), UNCOLOURED, np.uint8)
    kept = scan.kept_points() if cleaned else None
    cloud = PointCloud(cloud.points, cloud.normals, colours)
    return cloud if kept is None else cloud.select(kept)


def is_coloured(scan: PassState) -> bool:
    """Whether the points of a pass have colours of their own."""
    if scan.cloud is not None:
        return scan.cloud.cloud.colours is not None
    return scan.frame_count > 0 and scan.colour_in_depth_view(0) is not None


def frame_points(scan: PassState, index: int, cleaned: bool, coloured: bool, voxel_mm: float) -> PointCloud:
    """One frame's thinned points in the pass's frame."""
    cloud, _, confidence = measured_points(scan, index, cleaned, coloured)
    return thin(cloud, voxel_mm, confidence)


def measured_points(
    scan: PassState, index: int, cleaned: bool, coloured: bool
) -> tuple[PointCloud, np.ndarray, np.ndarray]:
    """All usable points of one frame in the pass's frame, their pixels (row · width + column) and confidence (n,)."""
    return points_of(scan, index, frame_map(scan, index, cleaned), coloured)


def points_of(
    scan: PassState, index: int, surface: DepthMap, coloured: bool
) -> tuple[PointCloud, np.ndarray, np.ndarray]:
    """As `measured_points`, of a frame's `DepthMap`."""
    mask = surface.confidence > 0
    pose = scan.frame_poses[index]
    points = transform_points(pose, surface.points(mask, surface.unshrunk()))
    normals = (surface.normals[mask] @ pose[:3, :3].T).astype(np.float32)
    colours = None
    if coloured:
        image = scan.colour_in_depth_view(index)
        colours = np.full((len(points), 3), UNCOLOURED, np.uint8) if image is None else image[mask]
    cloud = PointCloud(points.astype(np.float32), normals, colours)
    return cloud, np.flatnonzero(mask), surface.confidence[mask]
