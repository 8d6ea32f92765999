"""Trim fuzz: take away points that other frames looked through.

A point of one frame is projected into the other frames. Where a frame measured something well behind it,
that frame saw free space there. Points contradicted by more frames than agree with them are noise
standing off the surface: torn edges, reflections, dust, rests of the stand. Of points that came in without frames those
go as well that stand alone (after Rusu et al. 2008, doi:10.1016/j.robot.2008.08.005), and those whose normals face against what lies
around them in the same surface: normals that were made go wrong at rims.
"""

import numpy as np
from scipy.spatial import cKDTree

from lucid_relic.cleaning.witnesses import asked, every_look, held_look, others_of, spread_over
from lucid_relic.executor import in_order
from lucid_relic.geometry.depth_map import frame_map
from lucid_relic.geometry.looks import look
from lucid_relic.geometry.masks import all_kept
from lucid_relic.geometry.pass_points import came_points
from lucid_relic.geometry.rigid import transform_points
from lucid_relic.progress import Progress
from lucid_relic.types import PassState, PointCloud

ALONE, ALONE_NEIGHBOURS = 4.0, 8  # times as far from its neighbours as is usual, a point stands alone
FACING_NEIGHBOURS, FACING_REACH = 16, 2.0  # points asked which way they face, within so many spacings
SAME_SURFACE = 0.5  # spacings off a point's plane: what lies nearer is no other side of a wall
MIN_CONTRADICTIONS = 2  # a single frame may err itself


def trimmed_masks(
    passes: tuple[PassState, ...], margin_mm: float, progress: Progress
) -> tuple[list[np.ndarray], int, int]:
    """Packed keep masks of every pass without fuzz, and the points before and after.

    margin_mm says how far behind a point a frame must have seen to contradict it.
    """
    frames = [(n, int(i)) for n, p in enumerate(passes) for i in p.frames_used()]
    seen_from = every_look(passes)
    masks = [p.keep.copy() if p.keep is not None else all_kept(p) for p in passes]
    before = after = 0
    around = _Surroundings(passes)
    for n, scan in enumerate(passes):
        if scan.cloud is not None:
            stays = _trimmed_points(passes, n, [s for s in seen_from if s[0] != n], around, margin_mm)
            masks[n] = np.packbits(stays)[None]
            before += len(stays) if scan.kept_points() is None else int(scan.kept_points().sum())
            after += int(stays.sum())
    calls = ((passes, seen_from, seen_from.index(frame), frame, margin_mm) for frame in frames)
    for k, kept in enumerate(in_order(_trimmed_frame, calls, len(frames), progress, "Trimming fuzz")):
        mask, seen = kept
        n, i = frames[k]
        masks[n][i] = np.packbits(mask.ravel())
        before += seen
        after += int(mask.sum())
    return masks, before, after


class _Surroundings:
    """The kept points of all passes of points in the object's frame."""

    def __init__(self, passes: tuple[PassState, ...]) -> None:
        clouds = [came_points(p, True, False).transformed(p.T_object_pass) for p in passes if p.cloud is not None]
        if clouds:
            self.normals = np.concatenate([c.normals for c in clouds])
            self.tree = cKDTree(np.concatenate([c.points for c in clouds]))

    def face_against(self, cloud: PointCloud, spacing_mm: float) -> np.ndarray:
        """(n,) bool: points whose neighbours in the same surface mostly face the other way."""
        away, index = self.tree.query(
            cloud.points, k=FACING_NEIGHBOURS, distance_upper_bound=FACING_REACH * spacing_mm, workers=-1
        )
        near = np.isfinite(away)
        index = np.where(near, index, 0)
        apart = self.tree.data[index] - cloud.points[:, None].astype(np.float64)
        near &= np.abs(np.einsum("nkj,nj->nk", apart, cloud.normals)) < SAME_SURFACE * spacing_mm
        cosine = np.einsum("nkj,nj->nk", self.normals[index], cloud.normals)
        return ((cosine < -0.3) & near).sum(axis=1) > ((cosine > 0.3) & near).sum(axis=1)


def _trimmed_points(
    passes: tuple[PassState, ...], n: int, seen_from: list[tuple[int, int]], around: _Surroundings, margin_mm: float
) -> np.ndarray:
    """(m,) bool: which points of a pass of points stay, asked of the looks of the others and of their own neighbours."""
    scan = passes[n]
    kept = scan.kept_points()
    keep = np.ones(len(scan.cloud), bool) if kept is None else kept.copy()
    inside = np.flatnonzero(keep)
    own = scan.cloud.cloud.points[inside]
    if len(own) > ALONE_NEIGHBOURS:
        distance, _ = cKDTree(own).query(own, k=ALONE_NEIGHBOURS + 1, workers=-1)
        away = distance[:, 1:].mean(axis=1)
        keep[inside[away > ALONE * np.median(away)]] = False
    placed = PointCloud(own, scan.cloud.cloud.normals[inside]).transformed(scan.T_object_pass)
    keep[inside[around.face_against(placed, scan.cloud.spacing_mm)]] = False
    points = placed.points.astype(np.float64)
    chosen = (seen_from[k] for k in spread_over(len(seen_from)))
    agree, contradict = asked(((passes[m], look(passes[m], j)) for m, j in chosen), points, margin_mm)
    keep[inside[(contradict >= MIN_CONTRADICTIONS) & (contradict > agree)]] = False
    return keep


def seen_through(passes: tuple[PassState, ...], places: np.ndarray, margin_mm: float) -> np.ndarray:
    """(n,) bool: places (n, 3) of the object that looks spread over all frames say are fuzz: a quick look at what would go."""
    every = every_look(passes)
    chosen = (every[k] for k in spread_over(len(every)))
    agree, contradict = asked(((passes[n], held_look(passes[n], i)) for n, i in chosen), places, margin_mm)
    return np.asarray((contradict >= MIN_CONTRADICTIONS) & (contradict > agree))


def _trimmed_frame(
    passes: tuple[PassState, ...], seen_from: list[tuple[int, int]], k: int, frame: tuple[int, int], margin_mm: float
) -> tuple[np.ndarray, int]:
    """Which pixels (h, w) of one frame, the k-th look, stay, and how many there were."""
    n, i = frame
    surface = frame_map(passes[n], i)
    seen = surface.confidence > 0
    points = transform_points(passes[n].T_object_camera(i), surface.points(seen).astype(np.float64))
    others = (seen_from[j] for j in others_of(k, len(seen_from)))
    agree, contradict = asked(((passes[m], look(passes[m], j)) for m, j in others), points, margin_mm)
    keep = seen.copy()
    keep[seen] = ~((contradict >= MIN_CONTRADICTIONS) & (contradict > agree))
    return keep, int(seen.sum())
