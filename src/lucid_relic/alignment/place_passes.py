"""All passes placed on each other, one after the other onto what is placed already.

Points that came without normals and without their scanner's place got normals that agree with each other, but which
side of them is out was guessed. So a pair that does not fit is tried with such a pass turned inside out as well, and what was
found so stays turned.
"""

from dataclasses import dataclass, field, fields, replace

import numpy as np

from lucid_relic.alignment.find_fit import contradiction, find_fit
from lucid_relic.alignment.fit_result import Fit, FitFigures, FitResult, RefusedFit, Side
from lucid_relic.executor import in_order, worker_count
from lucid_relic.geometry.points import extent_mm
from lucid_relic.geometry.rigid import difference, inverse
from lucid_relic.progress import Progress, part_of, silent
from lucid_relic.types import PassState, PointCloud

INSIDE_OUT = "it fits only turned inside out, and its normals say otherwise: look at them, or match points by hand"
LOOP_DEG, LOOP_SHARE = 3.0, 0.03  # two fits of a pass differ at the most by so many degrees and of its size

Tried = tuple[int, int, FitResult]


@dataclass
class _Table:
    """The passes and their points as they are turned now, the fits tried, and those that were found with a side turned."""

    passes: list[PassState]
    clouds: list[PointCloud]
    tried: list[Tried] = field(default_factory=list)
    turned: set[tuple[int, int]] = field(default_factory=set)

    def side(self, k: int) -> Side:
        return Side(self.clouds[k], self.passes[k])

    def guessed(self, k: int) -> bool:
        """Whether which side of a pass is out was guessed."""
        cloud = self.passes[k].cloud
        return cloud is not None and cloud.normals_from == "spread"

    def turn(self, k: int) -> None:
        """Turn a pass inside out."""
        scan = self.passes[k]
        self.passes[k] = replace(scan, cloud=scan.cloud.with_other_side_out())
        self.clouds[k] = _inside_out(self.clouds[k])

    def turn_as_found(self, j: int, i: int) -> bool:
        """Turn what has to be turned for a fit of i on j; False when neither side's may be."""
        if (j, i) not in self.turned:
            return True
        placed = [k for k, p in enumerate(self.passes) if p.placed]
        if self.guessed(i):
            self.turn(i)
        elif all(map(self.guessed, placed)):
            for k in placed:
                self.turn(k)
        else:
            return False
        return True


def _inside_out(cloud: PointCloud) -> PointCloud:
    return replace(cloud, normals=-cloud.normals)


def place_passes(
    passes: tuple[PassState, ...], clouds: list[PointCloud], progress: Progress
) -> tuple[tuple[PassState, ...], list[Tried]]:
    """Place every pass on what is placed already, best common area first.

    The first pass (or all that are placed) holds still. Passes whose file says how they lie to one that is placed are not
    searched for. Returns the passes, those that could not be placed left out, and every fit tried as (fixed, moving, result).
    """
    table = _Table(list(passes), list(clouds))
    out = table.passes
    if not any(p.placed for p in out):
        out[0] = replace(out[0], placed=True)
    _bring_along(out)
    waiting = [i for i, p in enumerate(out) if not p.placed]
    total, done = max(len(waiting), 1), 0
    while waiting:
        placed = [j for j, p in enumerate(out) if p.placed]
        known = {t[:2] for t in table.tried}
        fresh = [(j, i) for i in waiting for j in placed if (j, i) not in known]
        _try(table, fresh, part_of(progress, done / total, (done + 1) / total))
        fits = [(j, i, fit) for j, i, fit in table.tried if i in waiting and j in placed and isinstance(fit, Fit)]
        if not fits:
            break
        j, i, fit = max(fits, key=lambda t: (not t[2].by_colour, t[2].overlap))
        before = [p.cloud for p in out], list(table.clouds)
        may = table.turn_as_found(j, i)
        why = _contradiction(table, j, i, fit) if may else INSIDE_OUT
        if why:
            for k, cloud in enumerate(before[0]):
                out[k] = replace(out[k], cloud=cloud)
            table.clouds[:] = before[1]
            table.tried = [(a, b, _refused(f, why) if b == i else f) for a, b, f in table.tried]
            continue
        out[i] = replace(out[i], T_object_pass=out[j].T_object_pass @ fit.T_fixed_moving, placed=True)
        _bring_along(out)
        done += len(waiting)
        waiting = [k for k in waiting if not out[k].placed]
        done -= len(waiting)
    _turn_outside_out(table)
    return tuple(out), table.tried


def _turn_outside_out(table: _Table) -> None:
    """Turn all placed passes, when for each of them it was guessed which side is out and together they face inwards."""
    placed = [k for k, p in enumerate(table.passes) if p.placed]
    if len(placed) < 2 or not all(map(table.guessed, placed)):
        return
    clouds = [table.clouds[k].transformed(table.passes[k].T_object_pass) for k in placed]
    points, normals = (np.concatenate([getattr(c, n) for c in clouds]) for n in ("points", "normals"))
    if np.einsum("ij,ij->", normals, points - points.mean(axis=0)) < 0:
        for k in placed:
            table.turn(k)


def _bring_along(passes: list[PassState]) -> None:
    """Place what shares its frame with a placed pass, as its file places it."""
    known = {p.cloud.shared_frame: p.T_object_pass for p in passes if p.placed and _shares(p)}
    for k, scan in enumerate(passes):
        if not scan.placed and _shares(scan) and scan.cloud.shared_frame in known:
            passes[k] = replace(scan, T_object_pass=known[scan.cloud.shared_frame], placed=True)


def _shares(scan: PassState) -> bool:
    return scan.cloud is not None and bool(scan.cloud.shared_frame)


def _contradiction(table: _Table, j: int, i: int, fit: Fit) -> str:
    """Why pass i, laid onto pass j, cannot stay there because of the other placed passes; empty when they agree.

    Another fit that was accepted must put it at the same place, and none of the others' frames may have looked
    through it: three passes, of which only two pairs are right, do not close.
    """
    passes, clouds = table.passes, table.clouds
    T_object_pass = passes[j].T_object_pass @ fit.T_fixed_moving
    for k, scan in enumerate(passes):
        if k in (i, j) or not scan.placed:
            continue
        T_k_i = inverse(scan.T_object_pass) @ T_object_pass
        other = next((f for a, b, f in table.tried if (a, b) == (k, i)), None)
        if isinstance(other, Fit) and not (other.by_colour and not fit.by_colour):
            turned, shifted = difference(T_k_i, other.T_fixed_moving)
            if turned > LOOP_DEG or shifted > LOOP_SHARE * extent_mm(clouds[i]):
                return (
                    f"on “{passes[j].title}” it lies {turned:.0f}° and {shifted:.1f} mm off where it lies on "
                    f"“{scan.title}”: one of the two is a turn that looks alike; match points by hand"
                )
        said = contradiction(table.side(k), table.side(i), T_k_i)
        if said:
            return f"laid onto “{passes[j].title}” it contradicts “{scan.title}”: {said}"
    return ""


def _refused(fit: FitResult, why: str) -> FitResult:
    """A fit that other passes speak against."""
    figures = {f.name: getattr(fit, f.name) for f in fields(FitFigures)}
    return RefusedFit(reason=why if fit.accepted else fit.reason, **figures)


def _try(table: _Table, pairs: list[tuple[int, int]], progress: Progress) -> None:
    """Try (fixed, moving) pairs; those that do not fit once more turned, where a side was guessed."""
    found = _tried([(table.side(j), table.side(i)) for j, i in pairs], part_of(progress, 0, 0.6))
    again = [
        n
        for n, ((j, i), fit) in enumerate(zip(pairs, found, strict=True))
        if not fit.accepted and (table.guessed(i) or table.guessed(j))
    ]
    sides = [(table.side(j), Side(_inside_out(table.clouds[i]), table.passes[i])) for j, i in (pairs[n] for n in again)]
    for n, fit in zip(again, _tried(sides, part_of(progress, 0.6, 1.0)), strict=True):
        if fit.accepted:
            found[n] = fit
            table.turned.add(pairs[n])
    table.tried += [(j, i, fit) for (j, i), fit in zip(pairs, found, strict=True)]


def _tried(sides: list[tuple[Side, Side]], progress: Progress) -> list[FitResult]:
    """The fits of some (fixed, moving) sides, here or on the cluster."""
    if worker_count() == 1:
        return [
            find_fit(fixed, moving, part_of(progress, k / len(sides), (k + 1) / len(sides)))
            for k, (fixed, moving) in enumerate(sides)
        ]
    calls = ((fixed, moving, silent) for fixed, moving in sides)
    return list(in_order(find_fit, calls, len(sides), progress, "Finding fits on the cluster"))
