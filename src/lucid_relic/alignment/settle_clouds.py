"""Settle passes of points: all of them together, each as one rigid body, against each other and the passes of frames.

Gauss-Newton on point-to-plane residuals between nearest neighbours (Chen & Medioni 1992) with a Geman-McClure kernel, over one motion
for every pass of points. Passes of frames, which are settled before, hold still; without any the first pass does.
"""

from dataclasses import dataclass, replace

import numpy as np

from lucid_relic.alignment import _kernels
from lucid_relic.alignment.icp import BLOCK, MIN_NORMAL_COS, Target
from lucid_relic.geometry.pass_points import pass_points
from lucid_relic.geometry.rigid import small_motion
from lucid_relic.geometry.spacing import depth_noise, pixel_spacing
from lucid_relic.progress import Progress, part_of
from lucid_relic.types import PassState, PointCloud

LEVELS = ((6.0, 8), (3.0, 8), (1.6, 12))  # greatest distance of partners in spacings, iterations
NOISE_WIDTHS = 4.0  # that partners may lie apart in any case
THINNED = 1.2  # spacings between the points that settle
LEAST_PARTNERS = 30  # of two passes: fewer say nothing of how they lie
SETTLED = 1e-4  # of a spacing: a smaller step changes nothing


@dataclass(frozen=True)
class CloudsSettled:
    """Passes with refined placements, and per pass its residual (mm) against the others before and after."""

    passes: tuple[PassState, ...]
    before_mm: tuple[float, ...]
    after_mm: tuple[float, ...]


@dataclass(frozen=True)
class _Terms:
    """The normal equations (6n, 6n) and (6n,) of one step, and per pass the rms residual (mm) of what has partners."""

    hessian: np.ndarray
    gradient: np.ndarray
    rms_mm: np.ndarray


def settle_clouds(passes: tuple[PassState, ...], progress: Progress) -> CloudsSettled:
    """Refine the placement of every pass of points."""
    clouds = []
    for k, scan in enumerate(passes):
        part = part_of(progress, 0.3 * k / len(passes), 0.3 * (k + 1) / len(passes))
        clouds.append(pass_points(scan, THINNED * pixel_spacing(scan), progress=part))
    placements = [scan.T_object_pass for scan in passes]
    held = [k for k, scan in enumerate(passes) if scan.cloud is None] or [0]
    free = np.array([6 * k + c for k in range(len(passes)) if k not in held for c in range(6)], np.int64)
    spacing = max(pixel_spacing(scan) for scan in passes)
    noise = max(depth_noise(scan) for scan in passes)
    first = last = None
    done, total = 0, sum(rounds for _, rounds in LEVELS)
    for spacings, rounds in LEVELS:
        reach = max(spacings * spacing, NOISE_WIDTHS * noise)
        for _ in range(rounds):
            progress(0.3 + 0.7 * done / total, "Settling passes of points")
            done += 1
            last, centre = _terms(clouds, placements, reach)
            first = last if first is None else first
            step = _step(last, free)
            placements = [_moved(T, step[6 * k : 6 * k + 6], centre) for k, T in enumerate(placements)]
            if np.abs(step).max(initial=0) < SETTLED * spacing:
                break
    settled = tuple(replace(scan, T_object_pass=T) for scan, T in zip(passes, placements, strict=True))
    return CloudsSettled(settled, tuple(first.rms_mm.tolist()), tuple(last.rms_mm.tolist()))


def _moved(placement: np.ndarray, step: np.ndarray, centre: np.ndarray) -> np.ndarray:
    move = small_motion(step)
    move[:3, 3] += centre - move[:3, :3] @ centre
    return move @ placement


def _terms(clouds: list[PointCloud], placements: list[np.ndarray], reach_mm: float) -> tuple[_Terms, np.ndarray]:
    """The terms of all pairs of passes, about the middle (3,) of all."""
    moved = [cloud.transformed(T) for cloud, T in zip(clouds, placements, strict=True)]
    targets = [Target(cloud) for cloud in moved]
    centre = np.mean([cloud.points.mean(axis=0) for cloud in moved], axis=0).astype(np.float64)
    n = len(clouds)
    hessian, gradient = np.zeros((6 * n, 6 * n)), np.zeros(6 * n)
    squares, weights = np.zeros(n), np.full(n, 1e-12)
    for i in range(n):
        for j in range(n):
            if i == j:
                continue
            told = _pair(moved[i], targets[j], reach_mm, centre)
            if told[27] < LEAST_PARTNERS:
                continue
            block = np.zeros((6, 6))
            block[np.triu_indices(6)] = told[:21]
            block += np.triu(block, 1).T
            a, b = slice(6 * i, 6 * i + 6), slice(6 * j, 6 * j + 6)
            hessian[a, a] += block
            hessian[b, b] += block
            hessian[a, b] -= block
            hessian[b, a] -= block
            gradient[a] += told[21:27]
            gradient[b] -= told[21:27]
            for k in (i, j):
                squares[k] += told[29]
                weights[k] += told[28]
    return _Terms(hessian, gradient, np.sqrt(squares / weights)), centre


def _pair(moving: PointCloud, target: Target, reach_mm: float, centre: np.ndarray) -> np.ndarray:
    """(30,) sums of the terms of one pass's points against another's planes."""
    cells, normals = target.near(reach_mm)
    sums = np.zeros((-(-len(moving) // BLOCK), 30))
    _kernels.plane_terms(
        moving.points, moving.normals, np.eye(4), *cells.arrays, normals, reach_mm, MIN_NORMAL_COS, reach_mm / 3, centre,
        BLOCK, sums,
    )  # fmt: skip
    return sums.sum(axis=0)


def _step(terms: _Terms, free: np.ndarray) -> np.ndarray:
    """(6n,) turns (rad) about the middle and shifts (mm) of all passes; nothing for those that hold still."""
    step = np.zeros(len(terms.gradient))
    if len(free):
        own = terms.hessian[np.ix_(free, free)]
        damping = 1e-9 * max(float(np.trace(own)) / len(free), 1e-12)
        step[free] = -np.linalg.solve(own + damping * np.eye(len(free)), terms.gradient[free])
    return step
