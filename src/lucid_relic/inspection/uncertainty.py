"""How sure each place of a surface is: what the frames that saw it say of themselves.

Every frame measures a place anew, from its own side, with its own noise and its own place on the object. How far the
frames lie apart there tells how sure the mean of one pixel of each is (standard error of a weighted mean). The surface is
surer, since it also averages over pixels beside each other, by as much as two halves of the frames, fused apart, lie nearer
than that (`lucid_relic.fusion.repeatability`). How far the frames' mean lies off the surface tells what fusing, closing and
reducing have shifted it by; how far the means of two passes lie apart beyond chance, what placing them left. All together,
over the neighbourhood of the place, are its standard uncertainty (k = 1, "Guide to the expression of uncertainty in
measurement", JCGM 100:2008, 4.2 and 5.1, from memory). What all frames share, a wrong scale of the instrument, it cannot
tell: that is for the reference piece and the caliper.
"""

from dataclasses import dataclass
from itertools import combinations

import numpy as np
from scipy.spatial import cKDTree

from lucid_relic.errors import StepNotPossible
from lucid_relic.geometry.depth_map import DepthMap, kept_part
from lucid_relic.geometry.rigid import inverse, transform_points
from lucid_relic.geometry.spacing import pixel_spacing
from lucid_relic.inspection.distance import sample_with_faces
from lucid_relic.progress import Progress, silent
from lucid_relic.types import ScanState

PLACES = 40_000
STEEPEST = 0.25  # cosine between a place's normal and the look at it: flatter looks are not asked
REACH_NOISES, REACH_SPACINGS = 5.0, 2.0  # that what a frame measured may lie off a place and still be of it
PRIOR_FRAMES = 2.0  # that count with the scatter of the whole object: one frame alone tells none
PASS_FRAMES = 3.0  # of each of two passes at a place, that it may tell how these lie
LEAST_COMMON = 200  # such places
NEIGHBOURS = 16  # places that are asked together
SAME_SIDE = 0.5  # cosine between normals of places that are
COVERED, FACTOR = 0.95, 1.96  # share of a normal variable that lies within so many of its standard deviations


@dataclass(frozen=True)
class Uncertainty:
    """At places (n, 3), over their neighbourhoods: variance (n,) mm² of the mean of the frames, one pixel of each; common (n,)
    mm², the square of what averaging does not lessen: how far the surface lies off that mean, and passes off each other. NaN
    where no frame measured."""

    places: np.ndarray
    variance_mm2: np.ndarray
    common_mm2: np.ndarray

    def averaged(self, apart_mm: np.ndarray) -> float:
        """What averaging over pixels leaves of the variance (a factor), from how far two halves (n,) lie apart at the places.

        A half has twice the variance of the whole, the distance of two halves four times. It is so large that 95 % of the
        places lie within what it lets expect.
        """
        both = ~np.isnan(apart_mm) & ~np.isnan(self.variance_mm2)
        if not both.any():
            return 1.0
        reached = np.abs(apart_mm[both]) / 2 / np.sqrt(self.variance_mm2[both])
        return min(float((np.quantile(reached, COVERED) / FACTOR) ** 2), 1.0)

    def sigma_mm(self, averaged: float) -> np.ndarray:
        """(n,) standard uncertainties, given what averaging leaves of the variance."""
        out: np.ndarray = np.sqrt(averaged * self.variance_mm2 + self.common_mm2)
        return out


class _Sums:
    """Of what frames say at places: sums of weights, of their squares, of weighted distances and of their squares."""

    def __init__(self, sums: np.ndarray) -> None:
        self.weight, self.weight_sq, self.first, self.second = self.all = sums

    def add(self, who: np.ndarray, off: np.ndarray, weight: np.ndarray) -> None:
        self.weight[who] += weight
        self.weight_sq[who] += weight**2
        self.first[who] += weight * off
        self.second[who] += weight * off**2

    def told(self, who: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Of places that some frames measured: how many count, their mean and their scatter about it."""
        weight = self.weight[who]
        mean = self.first[who] / weight
        return weight**2 / self.weight_sq[who], mean, np.maximum(self.second[who] / weight - mean**2, 0.0)


def uncertainty(state: ScanState, count: int = PLACES, seed: int = 0, progress: Progress = silent) -> Uncertainty:
    """At `count` places of a state's surface, spread evenly by area.

    Raises `StepNotPossible` when no frame measured any of it.
    """
    mesh = state.mesh
    assert mesh is not None
    places, faces = sample_with_faces(mesh, count, seed)
    places = places.astype(np.float64)
    normals = mesh.face_normals()[faces]
    normals /= np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-20)
    measured = np.ones(count, bool) if mesh.made_up is None else ~mesh.made_up[faces]
    passes = [p for p in state.used_passes() if p.frame_in.any()]
    reaches = [max(REACH_NOISES * p.noise_mm, REACH_SPACINGS * pixel_spacing(p)) for p in passes]
    by_pass = [_Sums(np.zeros((4, count))) for _ in passes]
    about = list(zip(passes, reaches, by_pass, strict=True))
    frames = [(scan, int(i), reach, sums) for scan, reach, sums in about for i in scan.frames_used()]
    for done, (scan, index, reach, sums) in enumerate(frames):
        progress(done / len(frames), f"Asking frame {done + 1} of {len(frames)}")
        to_camera = inverse(scan.T_object_camera(index))
        surface, _, _ = kept_part(scan, index)
        sums.add(*_said(surface, transform_points(to_camera, places), normals @ to_camera[:3, :3].T, reach))
    whole = _Sums(sum((s.all for s in by_pass), np.zeros((4, count))))
    known = measured & (whole.weight > 0)
    if not known.any():
        raise StepNotPossible("No frame measured this surface: its passes came as points, or it is all made up.")
    variance, common = np.full((2, count), np.nan)
    variance[known], shift = _over_neighbours(whole, known, places, normals)
    saw = np.sum([s.weight[known] > 0 for s in by_pass], axis=0)
    common[known] = shift + _between(by_pass) / saw
    return Uncertainty(places, variance, common)


def _between(by_pass: list[_Sums]) -> float:
    """The variance (mm²) of where passes lie, from how far apart they tell places that two of them saw, beyond chance."""
    apart: list[np.ndarray] = []
    chance: list[np.ndarray] = []
    for one, other in combinations(by_pass, 2):
        both = np.flatnonzero((one.weight > 0) & (other.weight > 0))
        told, also = one.told(both), other.told(both)
        sure = (told[0] >= PASS_FRAMES) & (also[0] >= PASS_FRAMES)
        (n, mean, scatter), (m, mean_also, scatter_also) = ([v[sure] for v in t] for t in (told, also))
        apart.append((mean - mean_also) ** 2)
        chance.append(scatter / (n - 1) + scatter_also / (m - 1))
    if sum(map(len, apart)) < LEAST_COMMON:
        return 0.0
    return max(_without_tail(np.concatenate(apart)) - _without_tail(np.concatenate(chance)), 0.0) / 2


def _without_tail(values: np.ndarray) -> float:
    """The mean with the largest cut down: torn edges are few, and say nothing of where a pass lies."""
    return float(np.minimum(values, np.quantile(values, COVERED)).mean())


def _said(
    surface: DepthMap, places: np.ndarray, normals: np.ndarray, reach: float
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Which places (in the camera's frame) a frame measured, by how much (mm) above them, and with what confidence."""
    height, width = surface.depth.shape
    ahead = places[:, 2] > 0
    look = np.where(ahead[:, None], places, [0.0, 0.0, 1.0])
    u, v = np.rint(surface.camera.project(look)).astype(np.int64).T
    steep = -np.einsum("ij,ij->i", normals, look) / np.linalg.norm(look, axis=1)
    who = np.flatnonzero(ahead & (steep > STEEPEST) & (u >= 0) & (v >= 0) & (u < width) & (v < height))
    u, v = u[who], v[who]
    depth, confidence = surface.depth[v, u].astype(np.float64), surface.confidence[v, u].astype(np.float64)
    measured = surface.camera.sight_lines[v, u].astype(np.float64) * depth[:, None]
    # From the pixel's own plane, as fusing takes it.
    off = np.einsum("ij,ij->i", measured - places[who], surface.normals[v, u].astype(np.float64))
    good = (depth > 0) & (confidence > 0) & (np.abs(off) < reach)
    return who[good], off[good], confidence[good]


def _over_neighbours(
    sums: _Sums, known: np.ndarray, places: np.ndarray, normals: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """Of known places: the variance of the mean of what frames say, and the square of how far it lies off the surface."""
    count, mean, scatter = sums.told(known)
    many = count >= PRIOR_FRAMES
    usual = float(np.average(scatter[many] * count[many] / (count[many] - 1))) if many.any() else float(scatter.mean())
    error = (count * scatter + PRIOR_FRAMES * usual) / (count - 1 + PRIOR_FRAMES) / count
    k = min(NEIGHBOURS, len(mean))
    _, near = cKDTree(places[known]).query(places[known], k=k, workers=-1)
    near = near.reshape(len(mean), k)
    own = normals[known]
    same = np.einsum("ij,ikj->ik", own, own[near]) > SAME_SIDE
    share = same / same.sum(axis=1, keepdims=True)
    around = lambda values: np.einsum("ik,ik->i", share, values[near])  # noqa: E731
    variance = around(error)
    # A shift of the whole neighbourhood shows in its mean; one that changes within it, in what noise does not explain.
    return variance, np.maximum(around(mean**2) - variance, around(mean) ** 2)
