"""One frame laid onto its neighbours: projective point-to-plane terms with the fine light of the photographs."""

from collections.abc import Sequence

import numpy as np

from lucid_relic.alignment import _kernels
from lucid_relic.alignment.borders import Pull, border_terms, border_weight
from lucid_relic.alignment.motion_model import moved_about
from lucid_relic.alignment.views import LIGHT_NOISE, STRIDE, FrameView
from lucid_relic.geometry.rigid import inverse

# Greatest distance of partners, in pixel spacings: each halves what is left.
CORRESPONDENCE_DISTANCES = (24.0, 12.0, 6.0, 3.0)
ROUNDS = 5  # at each distance; the last of them moves the frame by less than a tenth of the noise
MIN_NORMAL_COS = 0.5  # partners face within 60°: both sides of a thin wall never meet
LIGHT_TRUST = 0.1  # lamps move with the head and their shading with them: light counts where shape holds nothing
HELD = 1e-4  # the share of a wholly held motion's weight with which the prediction counts
AGREE_WIDTHS, AGREE_SPACINGS = 1.5, 0.5  # of the noise and of the pixels: nearer two measurements are of one place
LEAST_SHARE = 0.05  # of the sample with a partner: with fewer the equations say nothing


def place_frame(
    view: FrameView,
    start: np.ndarray,
    neighbours: list[tuple[np.ndarray, FrameView]],
    distances: Sequence[float] = CORRESPONDENCE_DISTANCES,
) -> tuple[np.ndarray, float]:
    """Refined pose of a frame, and the share of its sample that found a partner; distances are in pixel spacings."""
    pose, share = start, 0.0
    gone = np.zeros(6)
    for distance in distances:
        for _ in range(ROUNDS):
            H, g, centre, best, _, _ = normal_equations(view, pose, neighbours, distance)
            full = H + np.triu(H, 1).T
            share = best / max(len(view.points), 1)
            if share < LEAST_SHARE:
                return pose, share
            # What nothing holds stays where the start had it.
            held = HELD * np.concatenate([np.full(3, np.trace(full[:3, :3])), np.full(3, np.trace(full[3:, 3:]))]) / 3
            step = -np.linalg.solve(full + np.diag(held), g + held * gone)
            gone += step
            pose = moved_about(step, centre) @ pose
    return pose, share


def residual(
    view: FrameView, pose: np.ndarray, neighbours: list[tuple[np.ndarray, FrameView]], distance: float
) -> float:
    """Weighted rms distance (mm) of a frame's sample to the planes of its neighbours, within `distance` pixel spacings."""
    *_, weight, squares = normal_equations(view, pose, neighbours, distance)
    return float(np.sqrt(squares / max(weight, 1e-12)))


def looked_through(view: FrameView, pose: np.ndarray, neighbours: list[tuple[np.ndarray, FrameView]]) -> float:
    """Share (0-1) of what a frame and its neighbours both see that one of them looked through; the worse way's."""
    within = AGREE_WIDTHS * view.noise_mm + AGREE_SPACINGS * view.spacing_mm
    worse = 0.0
    for one, other in ([[(pose, view)], neighbours], [neighbours, [(pose, view)]]):
        points = np.concatenate([v.points @ T[:3, :3].T + T[:3, 3] for T, v in one]).astype(np.float32)
        normals = np.concatenate([v.point_normals @ T[:3, :3].T for T, v in one]).astype(np.float32)
        agree, against = np.zeros(len(points), np.int32), np.zeros(len(points), np.int32)
        _kernels.gazes(
            points, normals, np.stack([inverse(T) for T, _ in other]), view.half_cam,
            np.stack([v.fitted for _, v in other]), within, 2 * within, agree, against,
        )  # fmt: skip
        worse = max(worse, float((against > agree).sum() / max(((agree + against) > 0).sum(), 1)))
    return worse


def normal_equations(
    view: FrameView, pose: np.ndarray, neighbours: list[tuple[np.ndarray, FrameView]], distance: float
) -> tuple[np.ndarray, np.ndarray, np.ndarray, int, float, float]:
    """Normal equations about a centre, the most partners any neighbour gave, Σw and Σwr²."""
    max_dist = distance * view.spacing_mm
    points = view.points.astype(np.float64) @ pose[:3, :3].T + pose[:3, 3]
    normals = view.point_normals.astype(np.float64) @ pose[:3, :3].T
    centre = points.mean(axis=0) if len(points) else np.zeros(3)
    H, g, best, total, squares = np.zeros((6, 6)), np.zeros(6), 0, 0.0, 0.0
    light_weight = (LIGHT_TRUST * view.noise_mm / LIGHT_NOISE) ** 2 if view.has_light else 0.0
    borders = view.borders.placed(pose)
    pull = Pull(max_dist, max_dist / 3, border_weight(view.noise_mm, view.spacing_mm), centre)
    for other, target in neighbours:
        count, weight, square = _kernels.pair_terms(
            points, normals, view.weights, view.point_light, inverse(other), target.cam, target.rays,
            target.fitted, target.normals, target.confidence, target.light, STRIDE, max_dist,
            max_dist / 3, MIN_NORMAL_COS, centre, light_weight, H, g,
        )  # fmt: skip
        ends = border_terms(borders, target.borders, inverse(other), pull)
        H, g = H + ends[0], g + ends[1]
        best, total, squares = max(best, count), total + weight, squares + square
    return H, g, centre, best, total, squares
