"""Double skins: what some frames lay beside a surface that others lay too."""

from dataclasses import replace

import numpy as np
from scipy.spatial import cKDTree

from lucid_relic.geometry.depth_map import frame_map
from lucid_relic.geometry.masks import all_kept
from lucid_relic.geometry.pass_points import pass_points
from lucid_relic.geometry.rigid import transform_points
from lucid_relic.geometry.spacing import pixel_spacing
from lucid_relic.progress import Progress
from lucid_relic.types import PassState

LIKE = 0.6  # cosine from which on two skins face one way
NEIGHBOURS = 4
REACH_SPACINGS = 1.5  # of the pixels, along the skins
LESS = 2  # pixels to a point of the others: between those there is no more to find


def without_doubles(
    passes: tuple[PassState, ...], frames: dict[int, np.ndarray], widest_mm: float, progress: Progress
) -> tuple[tuple[PassState, ...], int]:
    """The passes without those pixels of some frames that the other frames saw too, and how many points went.

    frames names, for the number of a pass, those whose skin goes; passes lie in one frame. Skins lie at most widest_mm apart.
    What only they saw stays.
    """
    spacing = max(pixel_spacing(p) for p in passes)
    points, normals = [], []
    for n, scan in enumerate(passes):
        others = np.setdiff1d(scan.frames_used(), frames.get(n, []))
        cloud = pass_points(scan, LESS * spacing, frames=map(int, others)).transformed(scan.T_object_pass)
        points.append(cloud.points)
        normals.append(cloud.normals)
    tree, facing = cKDTree(np.concatenate(points)), np.concatenate(normals)
    out, gone, done = list(passes), 0, 0
    total = sum(len(f) for f in frames.values())
    for n, own in frames.items():
        keep = passes[n].keep.copy() if passes[n].keep is not None else all_kept(passes[n])
        for index in map(int, own):
            progress(done / total, "Taking double skins away")
            surface = frame_map(passes[n], index)
            mask = surface.confidence > 0
            pose = passes[n].T_object_camera(index)
            places = transform_points(pose, surface.points(mask, surface.unshrunk()).astype(np.float64))
            double = _also_seen(tree, facing, places, surface.normals[mask] @ pose[:3, :3].T, widest_mm, spacing)
            gone += int(double.sum())
            mask[mask] = double
            keep[index] &= ~np.packbits(mask.ravel())
            done += 1
        out[n] = replace(passes[n], keep=keep)
    return tuple(out), gone


def _also_seen(
    tree: cKDTree, facing: np.ndarray, places: np.ndarray, normals: np.ndarray, widest_mm: float, spacing: float
) -> np.ndarray:
    """(n,) bool: places with a like skin within reach along their normals."""
    reach = REACH_SPACINGS * LESS * spacing
    away, index = tree.query(places, k=NEIGHBOURS, distance_upper_bound=np.hypot(widest_mm, reach), workers=-1)
    found = np.isfinite(away)
    index = np.where(found, index, 0)
    offset = tree.data[index] - places[:, None]
    along = np.einsum("nkj,nj->nk", offset, normals)
    aside = np.sqrt(np.maximum(away**2 - along**2, 0.0, where=found, out=np.zeros_like(away)))
    like = np.einsum("nkj,nj->nk", facing[index], normals) > LIKE
    double: np.ndarray = (found & like & (np.abs(along) < widest_mm) & (aside < reach)).any(axis=1)
    return double
