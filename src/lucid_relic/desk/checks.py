"""The reference piece measured: from a pass over it to its balls and its flat."""

import numpy as np

from lucid_relic.calibration.reference_piece import (
    PieceCheck,
    ReferencePiece,
    check_piece,
    find_balls,
    fit_ball,
    size_of_ball,
    square_to,
)
from lucid_relic.cleaning.stand import cut_height, find_plate
from lucid_relic.errors import StepNotPossible
from lucid_relic.geometry.depth_map import frame_map
from lucid_relic.geometry.spacing import depth_noise, pixel_spacing
from lucid_relic.types import PassState

CLEAR = 0.25  # confidence of pixels that are measured squarely enough
SAME_COS, SAME_MM = 0.97, 1.5  # of normals and places on one flat
TRIES = 200
VOTERS = 20_000  # points that vote for each try


def measured_piece(scan: PassState, piece: ReferencePiece) -> PieceCheck:
    """Check an instrument by a pass over the piece, placed frame by frame; raises `StepNotPossible` when it is not in view."""
    points, normals, eyes, frames = _points(scan)
    both = find_balls(points, normals, (piece.diameters_mm[0] / 2, piece.diameters_mm[1] / 2))
    surfaces, sizes = [], []
    for index, diameter in zip(both, piece.diameters_mm, strict=True):
        ball = fit_ball(points[index], diameter / 2)
        index = index[square_to(points[index], ball.centre, eyes[index])]
        surfaces.append(points[index])
        sizes.append(size_of_ball([points[index[frames[index] == f]] for f in np.unique(frames)], diameter / 2))
    away = np.ones(len(points), bool)
    for index, diameter in zip(both, piece.diameters_mm, strict=True):
        centre = points[index].mean(axis=0)
        away &= np.linalg.norm(points - centre, axis=1) > 0.8 * diameter
    flat = _flat(points[away], normals[away])
    return check_piece(
        (surfaces[0], surfaces[1]), (sizes[0], sizes[1]), flat, piece, scan.noise_mm or depth_noise(scan)
    )


def _points(scan: PassState) -> tuple[np.ndarray, ...]:
    """Measured (not smoothed) points, normals and eyes (n, 3) of all frames above the plate, in the pass's frame; frames (n,)."""
    try:
        plate = find_plate(scan, pixel_spacing(scan))
        above = cut_height(plate, pixel_spacing(scan), depth_noise(scan))
    except StepNotPossible:
        plate = None
    parts = []
    for index in map(int, scan.frames_used()):
        surface = frame_map(scan, index, cleaned=False)
        mask = surface.confidence > CLEAR
        T = scan.frame_poses[index]
        p = surface.points(mask).astype(np.float64) @ T[:3, :3].T + T[:3, 3]
        n = surface.normals[mask].astype(np.float64) @ T[:3, :3].T
        keep = np.ones(len(p), bool) if plate is None else p @ plate.normal - plate.offset > above
        parts.append(
            (p[keep], n[keep], np.broadcast_to(T[:3, 3], (int(keep.sum()), 3)), np.full(int(keep.sum()), index))
        )
    return tuple(np.concatenate(k) for k in zip(*parts, strict=True))


def _flat(points: np.ndarray, normals: np.ndarray) -> np.ndarray:
    """The points (n, 3) of the largest plane among the rest of the piece."""
    if not len(points):
        return points
    rng = np.random.default_rng(0)
    voters = rng.permutation(len(points))[:VOTERS]

    def on(chosen: np.ndarray, index: int) -> np.ndarray:
        off = np.abs((points[chosen] - points[index]) @ normals[index])
        return chosen[(normals[chosen] @ normals[index] > SAME_COS) & (off < SAME_MM)]

    tried = rng.choice(len(points), min(TRIES, len(points)), replace=False)
    best = max(tried, key=lambda index: len(on(voters, index)))
    return points[on(np.arange(len(points)), int(best))]
