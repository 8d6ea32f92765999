"""How far a pass lies off the others where they saw the same place, for every point of it that is shown."""

import numpy as np
from scipy.spatial import cKDTree

from lucid_relic.progress import Progress, silent
from lucid_relic.types import ScanState
from lucid_relic.view.packing import pack_arrays
from lucid_relic.view.pass_view import pass_view

NEIGHBOURS = 6  # points of the others whose planes are asked
REACH_SPACINGS = 3.0  # of the wider pass: farther off nothing of the same surface lies
NOT_KNOWN = -1e6  # mm, in packed shifts: no other pass saw the place
LIKE = 0.6  # cosine from which on two skins face one way


def pass_shift(state: ScanState, number: int, progress: Progress = silent) -> np.ndarray:
    """(n,) float32 mm by which each shown point of a pass lies outside (+) or inside (−) the skin of the other placed passes.

    NaN where no other pass saw the place, or when the pass or all others are not placed or switched off.
    """
    own = pass_view(state.passes[number], progress)
    shift = np.full(len(own), np.nan, np.float32)
    used = [n for n, p in enumerate(state.passes) if p.placed and not p.off]
    others = [pass_view(state.passes[n], progress) for n in used if n != number]
    others = [view for view in others if len(view)]
    if number not in used or not others or not len(own):
        return shift
    points = np.concatenate([v.cloud.points for v in others]).astype(np.float64)
    normals = np.concatenate([v.cloud.normals for v in others])
    reach = REACH_SPACINGS * max(v.spacing_mm for v in (own, *others))
    k = min(NEIGHBOURS, len(points))
    away, index = cKDTree(points).query(own.cloud.points, k=k, distance_upper_bound=reach, workers=-1)
    away, index = away.reshape(len(own), k), index.reshape(len(own), k)
    found = np.isfinite(away)
    index = np.where(found, index, 0)
    like = found & (np.einsum("nkj,nj->nk", normals[index], own.cloud.normals) > LIKE)
    # Along the mean of both normals: the plane of one alone errs by the bend of the surface between the two places.
    mean = normals[index] + own.cloud.normals[:, None]
    mean = mean / np.maximum(np.linalg.norm(mean, axis=2, keepdims=True), 1e-9)
    along = np.einsum("nkj,nkj->nk", own.cloud.points[:, None] - points[index], mean)
    known = like.any(axis=1)
    shift[known] = np.nanmedian(np.where(like, along, np.nan)[known], axis=1)
    return shift


def packed_shift(state: ScanState, number: int) -> bytes:
    """`pass_shift` as the viewer reads it: arrays `shift`, with the digest of the points it was made for."""
    digest = pass_view(state.passes[number]).digest
    shift = np.nan_to_num(pass_shift(state, number), nan=NOT_KNOWN)
    return pack_arrays({"digest": digest}, {"shift": shift.astype(np.float32)})
