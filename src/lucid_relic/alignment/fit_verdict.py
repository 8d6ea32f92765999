"""Whether a fit can be trusted: how much surface is shared, what contradicts it, and what else fits as well."""

from dataclasses import dataclass, replace

import numpy as np

from lucid_relic.alignment.by_colour import painted_differently, told_apart_by_colour
from lucid_relic.alignment.coarse import same_place
from lucid_relic.alignment.contest import ahead, beats, comparable, likeness
from lucid_relic.alignment.evidence import MOST, OFF, Evidence, Witness, common_share, evidence
from lucid_relic.alignment.fit_result import Fit, FitFigures, FitResult, RefusedFit, Side
from lucid_relic.alignment.fit_settings import FitSettings
from lucid_relic.alignment.icp import IcpResult, Painted, Target, enough_of, icp
from lucid_relic.alignment.rivals import own_symmetries, turned_about_weakest, weakest_twist
from lucid_relic.geometry.points import extent_mm, thin
from lucid_relic.geometry.rigid import difference, small_motion
from lucid_relic.geometry.spacing import depth_noise
from lucid_relic.types import PassState, PointCloud

FINE_ROUNDS = 25  # of the fine refinement, which ends earlier when nothing moves any more


@dataclass(frozen=True)
class _Refined:
    """A motion refined finely, with what is known for and against it."""

    result: IcpResult
    evidence: Evidence

    @property
    def motion(self) -> np.ndarray:
        return self.result.T_fixed_moving


class _Bench:
    """Both sides at the fine voxel, ready to refine motions and to ask what speaks for them."""

    def __init__(self, fixed: Side, moving: Side, voxel_mm: float, fine_mm: float, settings: FitSettings) -> None:
        self.settings, self.voxel_mm, self.fine_mm = settings, voxel_mm, fine_mm
        f, m = thin(fixed.cloud, fine_mm), thin(moving.cloud, fine_mm)
        self.target, self.moving = Target(f), m
        self.painted = None if f.colours is None or m.colours is None else Painted(self.target, fine_mm)
        self.centre = m.points.mean(axis=0)
        bare = any(side.scan is None for side in (fixed, moving))
        scans = [side.scan for side in (fixed, moving) if side.scan is not None]
        widths = max((_noise_widths(scan, settings) * depth_noise(scan) for scan in scans), default=0.0)
        # A small part of the relief, or the noise where that is more.
        share = settings.tight_share_bare if bare else settings.tight_share_of_voxel
        self.within_mm = max(share * fine_mm, widths)
        self.judges = Witness(fixed, self.target, voxel_mm), Witness(moving, Target(m), voxel_mm)

    def evidence(self, motion: np.ndarray) -> Evidence:
        return evidence(*self.judges, motion, self.fine_mm, self.within_mm)

    def not_far_worse(self, motions: list[np.ndarray], best: float) -> list[np.ndarray]:
        """Those of some motions of which the mean error is not far over `best`, or over their least; few points tell the clear cases."""
        far = self.settings.far_worse
        for every, allowed in ((self.settings.far_worse_every, 2 * far), (1, far)):
            means = [evidence(*self.judges, T, self.fine_mm, self.within_mm, every).mean for T in motions]
            least = min(means, default=best)
            motions = [T for T, mean in zip(motions, means, strict=True) if mean <= min(least, best) + allowed]
        return motions

    def roughly(self, start: np.ndarray, coarse: tuple[Target, Target]) -> np.ndarray:
        """A start refined on both sides as they are thinned to the coarse voxel."""
        reach, rounds = 5 * self.voxel_mm, self.settings.coarse_rounds
        return icp(coarse[0], enough_of(coarse[1].cloud), start, reach, rounds, 1.2 * self.voxel_mm).T_fixed_moving

    def refined(self, start: np.ndarray, reach_mm: float) -> _Refined:
        result = icp(self.target, self.moving, start, reach_mm, FINE_ROUNDS, self.fine_mm)
        return _Refined(result, self.evidence(result.T_fixed_moving))

    def same(self, a: np.ndarray, b: np.ndarray) -> bool:
        return bool(same_place(a, b, self.centre, 4 * self.voxel_mm))

    def add(self, found: list[_Refined], start: np.ndarray, reach_mm: float) -> None:
        """Refine a start and keep where it ends, unless one is there already."""
        fresh = self.refined(start, reach_mm)
        if all(not self.same(fresh.motion, other.motion) for other in found):
            found.append(fresh)


def _noise_widths(scan: PassState, settings: FitSettings) -> float:
    return settings.tight_noises if scan.cloud is None else settings.tight_noises_points


def verdict(
    fixed: Side, moving: Side, starts: list[np.ndarray], coarse: tuple[Target, Target], voxel: float,
    fine_mm: float, settings: FitSettings,
) -> FitResult:  # fmt: skip
    """Refine the starts, choose among where they end and all rivals of that, and say whether the choice can be trusted."""
    bench = _Bench(fixed, moving, voxel, fine_mm, settings)
    # 1. Refine the starts; the one that beats the others, and what else the shape allows.
    found: list[_Refined] = []
    for start in bench.not_far_worse(starts, MOST) if len(starts) > 1 else starts:
        bench.add(found, start, 1.5 * voxel)
    best = _best(found)
    for start in _rivals(best, found, bench, coarse):
        bench.add(found, start, 1.5 * voxel)
    best = _best(found)
    # 2. What no other place contradicts, and what the shape holds.
    others = [f for f in found if not bench.same(f.motion, best.motion) and _is_rival(f, best, settings)]
    counts = [best.evidence.against(o.evidence) for o in others]
    equal = [o for o in others if not beats(best.evidence, o.evidence, settings)]
    rival = float(max((likeness(*c) for c in counts), default=0.0))
    slides = _slides(best, bench)
    # 3. Look for reasons against it; where only the shape leaves it open, colour may tell.
    figures = _figures(best, rival, bench)
    reason = _of_shape(figures, settings.min_overlap, bench)
    by, chosen = "no other fit as good", best
    if not reason and (equal or slides):
        told = _by_colour(best, equal, bench)
        if told is None:
            reason = _open(best, equal, slides)
        else:
            chosen = told[0]
            by = f"told from {max(len(equal), 1)} alike by its colour"
            figures = replace(_figures(chosen, told[1], bench), by_colour=True)
            # Where it lays other places on each other than the best one, what both know lies at rims and tells less.
            like = comparable(chosen.evidence, best.evidence)
            reason = _of_shape(figures, settings.min_overlap if like else settings.min_overlap_unlike, bench)
    if not reason and not figures.by_colour and _colours_differ(best, bench):
        figures = replace(figures, colours_differ=True)
        reason = "the shapes fit but the colours do not: another turn looks alike; match points by hand"
    if reason:
        return RefusedFit(reason=reason, **vars(figures))
    words = f"common area {figures.overlap:.0%}, residual {figures.rms_mm:.3f} mm, {by}"
    return Fit(T_fixed_moving=chosen.motion, reason=words, **vars(figures))


def _figures(fit: _Refined, rival: float, bench: _Bench) -> FitFigures:
    said, result = fit.evidence, fit.result
    return FitFigures(
        overlap=common_share(*bench.judges, fit.motion, bench.fine_mm, bench.within_mm), rms_mm=result.rms_mm,
        free_space_violation=said.looked_through, rival=rival, contradicted=said.contradicted, misfit=said.mean,
        constraint_strength=_strength(result.information, bench.moving),
    )  # fmt: skip


def against(
    fixed: Side, moving: Side, motion: np.ndarray, voxel_mm: float, fine_mm: float, settings: FitSettings
) -> str:
    """What both sides say against a motion, in words; empty when nothing does."""
    bench = _Bench(fixed, moving, voxel_mm, fine_mm, settings)
    said = bench.evidence(motion)
    if said.known < settings.least_wins:
        return ""
    looked = any(judge.frames is not None for judge in bench.judges)
    little = said.known < settings.little_in_common * len(said.errors)
    if not looked and little and said.contradicted < settings.clear_contradiction:
        return ""
    return _contradicted(said.looked_through, said.contradicted, said.mean, bench)


def _best(found: list[_Refined]) -> _Refined:
    """The one that wins most patches against the others, the better one of each pair going on."""
    champion = found[0]
    for other in found[1:]:
        if ahead(other.evidence, champion.evidence):
            champion = other
    return champion


def _is_rival(other: _Refined, best: _Refined, settings: FitSettings) -> bool:
    """Whether another motion lays enough on the other side, and well enough, to be told from the best one at all."""
    one, two = best.evidence, other.evidence
    return two.known > settings.little_in_common * one.known and two.mean <= one.mean + settings.far_worse


def _rivals(best: _Refined, found: list[_Refined], bench: _Bench, coarse: tuple[Target, Target]) -> list[np.ndarray]:
    """Motions that a nearly symmetric body may be confused with."""
    settings = bench.settings
    f, m = (t.cloud for t in coarse)
    moved = m.transformed(best.motion)
    body = thin(PointCloud(np.concatenate([f.points, moved.points]), None), bench.voxel_mm)
    rivals = [bench.roughly(turn @ best.motion, coarse) for turn in own_symmetries(body, 1.5 * bench.voxel_mm)]
    rivals = bench.not_far_worse(rivals, best.evidence.mean)
    if _strength(best.result.information, m) >= settings.sweep_constraint_strength:
        return rivals
    # About the axis that is not held every turn is a rival, whichever way up the body stands.
    ways = [best.motion, *(f.motion for f in found), *rivals]
    axis = best.motion[:3, :3].T @ weakest_twist(best.result.information, extent_mm(m) / 2)[:3]
    upright = [w for w in ways if (w[:3, :3] @ axis) @ (ways[0][:3, :3] @ axis) > 0][:1]
    flipped = [w for w in ways if (w[:3, :3] @ axis) @ (ways[0][:3, :3] @ axis) < 0][:1]
    sweeps = []
    for way in (*upright, *flipped):
        turns = turned_about_weakest(m.transformed(way), best.result.information, way, settings.sweep_step_deg)
        sweeps += _most_likely(turns, bench)
    return rivals + sweeps


def _most_likely(turns: list[np.ndarray], bench: _Bench) -> list[np.ndarray]:
    """Of many turns those that the shape, and those that the colour speaks for most; neighbours are taken once."""
    settings = bench.settings
    if not turns:
        return []
    said = [bench.evidence(T) for T in turns]
    orders = [np.argsort([-e.worth for e in said], kind="stable")]
    if bench.painted is not None:
        alike = [bench.painted.likeness(bench.moving, T, 1.5 * bench.fine_mm)[0] for T in turns]
        orders.append(np.argsort([-a for a in alike], kind="stable"))
    kept: list[int] = []
    for order in orders:
        count = 0
        for k in map(int, order):
            apart = [min(abs(k - o), len(turns) + 1 - abs(k - o)) for o in kept]
            if count < settings.sweep_kept and all(a > settings.sweep_apart for a in apart):
                kept.append(k)
                count += 1
    return [turns[k] for k in kept]


def _strength(information: np.ndarray, cloud: PointCloud) -> float:
    """How strongly the weakest motion is held, as a share of the mean of all six, turns as the arc at half the size."""
    scale = np.array([2 / extent_mm(cloud)] * 3 + [1.0] * 3)
    eigen = np.linalg.eigvalsh(information * np.outer(scale, scale))
    return float(eigen[0] / max(eigen.sum() / 6, 1e-12))


def _slides(best: _Refined, bench: _Bench) -> bool:
    """Whether the body can be moved along its weakest motion without anything to contradict."""
    settings = bench.settings
    if _strength(best.result.information, bench.moving) >= settings.min_constraint_strength:
        return False
    radius = extent_mm(bench.moving) / 2
    moved = bench.moving.transformed(best.motion)
    twist = weakest_twist(best.result.information, radius)
    centre = moved.points.mean(axis=0)
    for way in (-1.0, 1.0):
        step = small_motion(way * settings.slide_voxels * bench.voxel_mm * twist)
        step[:3, 3] += centre - step[:3, :3] @ centre
        if not beats(best.evidence, bench.evidence(step @ best.motion), settings):
            return True
    return False


def _by_colour(best: _Refined, equal: list[_Refined], bench: _Bench) -> tuple[_Refined, float] | None:
    """The fit that colour picks among those that the shape leaves open, and how near the next one comes."""
    if bench.painted is None or best.evidence.contradicted > bench.settings.max_contradicted_by_colour:
        return None
    motions = [best.motion, *(e.motion for e in equal)]
    told = told_apart_by_colour(bench.painted, bench.moving, motions, bench.fine_mm, 4 * bench.voxel_mm)
    if told is None:
        return None
    chosen = _Refined(told.fit, bench.evidence(told.fit.T_fixed_moving))
    if beats(best.evidence, chosen.evidence, bench.settings):
        return None
    return chosen, told.rival


def _colours_differ(best: _Refined, bench: _Bench) -> bool:
    return bench.painted is not None and painted_differently(bench.painted, bench.moving, best.motion, bench.fine_mm)


def _of_shape(figures: FitFigures, least_overlap: float, bench: _Bench) -> str:
    """Why a fit is no good by itself, or empty."""
    if figures.overlap < least_overlap or not np.isfinite(figures.rms_mm):
        return (
            f"common area {figures.overlap:.0%}, {least_overlap:.0%} is the least and more is better: "
            "capture a side view that both passes share, or match points by hand"
        )
    return _contradicted(figures.free_space_violation, figures.contradicted, figures.misfit, bench)


def _contradicted(looked_through: float, contradicted: float, misfit: float, bench: _Bench) -> str:
    settings = bench.settings
    if looked_through > settings.max_free_space_violation:
        return (
            f"the best fit puts {looked_through:.0%} of the surface where the other pass looked "
            "through: the passes may show different objects, or the stand is still in one of them"
        )
    if contradicted > settings.max_contradicted or misfit > settings.max_misfit:
        return (
            f"{contradicted:.0%} of the common area lies more than {OFF * bench.within_mm:.2g} mm apart, more than "
            "the noise explains: the surfaces are alike but not the same; match points by hand"
        )
    return ""


def _open(best: _Refined, equal: list[_Refined], slides: bool) -> str:
    """Why the shape leaves it open and colour does not tell, with the rivals named by how far they are turned."""
    if slides and not equal:
        return "the common area is too smooth to hold the pass in place: match points by hand"
    turns = sorted({round(difference(best.motion, e.motion)[0]) for e in equal})
    named = ", ".join(f"{t}°" for t in turns[:4])
    return f"{len(equal) + 1} turns fit equally well (turned by {named}): add a marker or match a point by hand"
