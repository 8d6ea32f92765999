"""All passes placed on each other, one after the other onto what is placed already."""

from dataclasses import fields, replace

from lucid_relic.alignment.find_fit import contradiction, find_fit
from lucid_relic.alignment.fit_result import Fit, FitFigures, FitResult, RefusedFit, Side
from lucid_relic.executor import in_order, worker_count
from lucid_relic.geometry.points import extent_mm
from lucid_relic.geometry.rigid import difference, inverse
from lucid_relic.progress import Progress, part_of, silent
from lucid_relic.types import PassState, PointCloud

LOOP_DEG, LOOP_SHARE = 3.0, 0.03  # two fits of a pass differ at the most by so many degrees and of its size

Tried = tuple[int, int, FitResult]


def place_passes(
    passes: tuple[PassState, ...], clouds: list[PointCloud], progress: Progress
) -> tuple[tuple[PassState, ...], list[Tried]]:
    """Place every pass on what is placed already, best common area first.

    The first pass (or all that are placed) holds still. Returns the passes, those that could not be
    placed left out, and every fit tried as (fixed, moving, result).
    """
    out = list(passes)
    if not any(p.placed for p in out):
        out[0] = replace(out[0], placed=True)
    tried: list[Tried] = []
    waiting = [i for i, p in enumerate(out) if not p.placed]
    total, done = max(len(waiting), 1), 0
    while waiting:
        placed = [j for j, p in enumerate(out) if p.placed]
        known = {t[:2] for t in tried}
        fresh = [(j, i) for i in waiting for j in placed if (j, i) not in known]
        tried += _tried(out, clouds, fresh, part_of(progress, done / total, (done + 1) / total))
        fits = [(j, i, fit) for j, i, fit in tried if i in waiting and j in placed and isinstance(fit, Fit)]
        if not fits:
            break
        j, i, fit = max(fits, key=lambda t: (not t[2].by_colour, t[2].overlap))
        why = _contradiction(out, clouds, j, i, fit, tried)
        if why:
            tried = [(a, b, _refused(f, why) if b == i else f) for a, b, f in tried]
            continue
        out[i] = replace(out[i], T_object_pass=out[j].T_object_pass @ fit.T_fixed_moving, placed=True)
        waiting.remove(i)
        done += 1
    return tuple(out), tried


def _contradiction(
    passes: list[PassState], clouds: list[PointCloud], j: int, i: int, fit: Fit, tried: list[Tried]
) -> str:
    """Why pass i, laid onto pass j, cannot stay there because of the other placed passes; empty when they agree.

    Another fit that was accepted must put it at the same place, and none of the others' frames may have looked
    through it: three passes, of which only two pairs are right, do not close.
    """
    T_object_pass = passes[j].T_object_pass @ fit.T_fixed_moving
    for k, scan in enumerate(passes):
        if k in (i, j) or not scan.placed:
            continue
        T_k_i = inverse(scan.T_object_pass) @ T_object_pass
        other = next((f for a, b, f in tried if (a, b) == (k, i)), None)
        if isinstance(other, Fit) and not (other.by_colour and not fit.by_colour):
            turned, shifted = difference(T_k_i, other.T_fixed_moving)
            if turned > LOOP_DEG or shifted > LOOP_SHARE * extent_mm(clouds[i]):
                return (
                    f"on “{passes[j].title}” it lies {turned:.0f}° and {shifted:.1f} mm off where it lies on "
                    f"“{scan.title}”: one of the two is a turn that looks alike; match points by hand"
                )
        said = contradiction(Side(clouds[k], scan), Side(clouds[i], passes[i]), T_k_i)
        if said:
            return f"laid onto “{passes[j].title}” it contradicts “{scan.title}”: {said}"
    return ""


def _refused(fit: FitResult, why: str) -> FitResult:
    """A fit that other passes speak against."""
    figures = {f.name: getattr(fit, f.name) for f in fields(FitFigures)}
    return RefusedFit(reason=why if fit.accepted else fit.reason, **figures)


def _tried(
    passes: list[PassState], clouds: list[PointCloud], pairs: list[tuple[int, int]], progress: Progress
) -> list[Tried]:
    """The fits of some (fixed, moving) pairs, here or on the cluster."""
    if worker_count() == 1:
        out: list[Tried] = []
        for k, (j, i) in enumerate(pairs):
            part = part_of(progress, k / len(pairs), (k + 1) / len(pairs))
            out.append((j, i, find_fit(Side(clouds[j], passes[j]), Side(clouds[i], passes[i]), part)))
        return out
    calls = ((Side(clouds[j], passes[j]), Side(clouds[i], passes[i]), silent) for j, i in pairs)
    found = in_order(find_fit, calls, len(pairs), progress, "Finding fits on the cluster")
    return [(j, i, fit) for (j, i), fit in zip(pairs, found, strict=True)]
