"""Ghost layers: frames that lay the same surface a little beside where the others lay it.

Every frame gets a small motion of its own that makes it agree with its neighbours, all of them solved for together: what two
frames say of each other is carried round the object, so that frames that agree among themselves and make up most of what is
seen of one side are still found, as long as the others are more in all. Motions can only be told against each other; what they
are measured from is the frame that most of the others agree with. Frames of a wrong place then stand out by how far their
points are moved along their normals. Passes of points have no frames: their motion is that of settling them.
"""

from dataclasses import dataclass, replace

import numpy as np
from scipy.sparse import diags
from scipy.sparse.linalg import splu

from lucid_relic.alignment.joint import JointFrames, equations, neighbour_pairs, placed
from lucid_relic.alignment.views import FrameView
from lucid_relic.geometry.rigid import inverse, small_motion
from lucid_relic.progress import Progress, silent
from lucid_relic.types import PassState

WIDEST_NOISES, WIDEST_SPACINGS = 10.0, 2.5  # how far apart skins may lie to be compared
ROUNDS = ((1.0, 2), (0.4, 3))  # the kernel's scale in parts of that distance, and steps with it
HELD_MM = 1.0  # what holds frames where they are against all that the others do not tell
# Skins nearer than this are no ghosts: in widths of the noise as it is estimated, fine relief included; in pixel spacings; and
# in how far the calmest quarter of the frames is moved, for want of relief or by what a slant does to it.
APART_NOISES, APART_SPACINGS, APART_CALM = 0.5, 0.06, 4.0
AGREE = 0.5  # of the least distance apart by noise and spacing: frames nearer to each other than this agree
REFERENCES, COMPARED = 48, 80  # frames that may be what is measured from, points of a frame that are compared
BELONGS = (
    0.6  # of the least distance apart: beside frames that stand off, those that do so nearly as far belong to them
)


@dataclass(frozen=True)
class Ghost:
    """Frames of one pass whose skin lies beside that of the others.

    pass_index and frames name them; apart_mm is how far their skin lies off, noises the same in widths of the noise; at (3,) mm
    in the object a place where that is widest. motions (k, 4, 4) would take each frame's points to the others' skin.
    """

    pass_index: int
    frames: np.ndarray
    apart_mm: float
    noises: float
    at: np.ndarray
    motions: np.ndarray


def find_ghosts(
    passes: tuple[PassState, ...],
    progress: Progress = silent,
    cleaned: bool = True,
    views: list[FrameView] | None = None,
) -> list[Ghost]:
    """Frames of passes that lie in one frame whose skins stand off those of the others, the widest apart first.

    The passes have frames and poses. Raises `StepNotPossible` when no frame has any surface.
    """
    problem = JointFrames(passes, cleaned, progress, views=views)
    old = problem.poses()
    widest = max(WIDEST_NOISES * problem.noise, WIDEST_SPACINGS * problem.spacing)
    motions = _agreeing(problem, old, widest)
    least = max(APART_NOISES * problem.noise, APART_SPACINGS * problem.spacing)
    samples = [_sample(view, pose) for view, pose in zip(problem.views, old, strict=True)]
    motions = inverse(motions[_reference(samples, motions, AGREE * least)]) @ motions
    moved = [_along_normals(*sample, m) for sample, m in zip(samples, motions, strict=True)]
    apart = np.array([np.sqrt((m**2).mean()) if len(m) else 0.0 for m in moved])
    least = max(least, APART_CALM * float(np.quantile(apart, 0.25)))
    numbers = [(n, int(i)) for n, frames in enumerate(problem.frames) for i in frames]
    out = []
    for run in _runs(numbers, apart / least):
        worst = max(run, key=lambda k: apart[k])
        n = numbers[worst][0]
        frames, like = _with_followers(passes[n], problem.frames[n], [numbers[k][1] for k in run])
        out.append(
            Ghost(
                pass_index=n,
                frames=frames,
                apart_mm=float(np.median(apart[run])),
                noises=float(np.median(apart[run]) / max(problem.noise, 1e-9)),
                at=samples[worst][0][int(np.argmax(np.abs(moved[worst])))],
                motions=motions[np.array(run)[like]],
            )
        )
    return sorted(out, key=lambda g: -g.apart_mm)


def moved_onto(passes: tuple[PassState, ...], ghosts: list[Ghost]) -> tuple[PassState, ...]:
    """The passes with the frames of ghosts moved to where the others lay the surface."""
    out = list(passes)
    for ghost in ghosts:
        scan = out[ghost.pass_index]
        poses = scan.frame_poses.copy()
        there = scan.T_object_pass @ poses[ghost.frames]
        poses[ghost.frames] = inverse(scan.T_object_pass) @ ghost.motions @ there
        out[ghost.pass_index] = replace(scan, frame_poses=poses)
    return tuple(out)


def _with_followers(scan: PassState, keys: np.ndarray, chosen: list[int]) -> tuple[np.ndarray, np.ndarray]:
    """Frames that chosen keyframes stand for, those between to the nearer one, and which of the chosen each follows."""
    used = scan.frames_used()
    nearest = keys[np.abs(used[:, None] - keys[None]).argmin(axis=1)]
    mine = np.isin(nearest, chosen)
    return used[mine], np.searchsorted(chosen, nearest[mine])


def _agreeing(problem: JointFrames, old: np.ndarray, widest: float) -> np.ndarray:
    """Motions (n, 4, 4) in the object's frame that would make all frames agree with their neighbours."""
    pairs = neighbour_pairs(problem, widest)
    poses = old.copy()
    turned = np.tile([1.0] * 3 + [0.0] * 3, len(old)).astype(bool)
    extent = max(float(np.abs(problem.views[0].points).std()), 1.0) if len(problem.views[0].points) else 1.0
    held = diags(np.where(turned, (extent / HELD_MM) ** 2, 1 / HELD_MM**2))
    for share, steps in ROUNDS:
        for _ in range(steps):
            told = equations(problem, poses, pairs, widest, share * widest)
            step = splu((told.hessian + held).tocsc(), permc_spec="MMD_AT_PLUS_A").solve(-told.gradient)
            poses = np.stack([_moved(s, p, problem.centre) for s, p in zip(step.reshape(-1, 6), poses, strict=True)])
    return poses @ inverse(old)


def _moved(step: np.ndarray, pose: np.ndarray, centre: np.ndarray) -> np.ndarray:
    """A pose turned and shifted about the middle of the object."""
    around = np.eye(4)
    around[:3, 3] = centre
    moved: np.ndarray = around @ small_motion(step) @ inverse(around) @ pose
    return moved


def _sample(view: FrameView, pose: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    points, normals, *_ = placed(view, pose, every=max(len(view.points) // COMPARED, 1))
    return points, normals


def _along_normals(points: np.ndarray, normals: np.ndarray, motion: np.ndarray) -> np.ndarray:
    """How far (n,) mm a motion takes points along their normals."""
    moved: np.ndarray = np.einsum("nk,nk->n", points @ motion[:3, :3].T + motion[:3, 3] - points, normals)
    return moved


def _reference(samples: list[tuple[np.ndarray, np.ndarray]], motions: np.ndarray, near: float) -> int:
    """The frame that most others agree with, each by its own points; of several the one that lies nearest to them."""
    asked = np.unique(np.linspace(0, len(motions) - 1, min(REFERENCES, len(motions))).astype(int))
    best, most = 0, (-1, 0.0)
    for k in asked:
        if not len(samples[k][0]):
            continue
        against = inverse(motions[k]) @ motions
        off = np.array(
            [np.sqrt((_along_normals(*s, m) ** 2).mean()) for s, m in zip(samples, against, strict=True) if len(s[0])]
        )
        told = (int((off < near).sum()), -float(np.median(off)))
        if told > most:
            best, most = int(k), told
    return best


def _runs(numbers: list[tuple[int, int]], widths: np.ndarray) -> list[list[int]]:
    """Runs of frames of one pass that stand off, widths (n,) in parts of the least distance apart."""
    runs: list[list[int]] = []
    for k in np.flatnonzero(widths > BELONGS):
        last = runs[-1][-1] if runs else None
        if last is not None and numbers[last][0] == numbers[k][0] and k == last + 1:
            runs[-1].append(int(k))
        else:
            runs.append([int(k)])
    return [run for run in runs if widths[run].max() > 1.0]
