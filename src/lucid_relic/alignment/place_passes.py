"""All passes placed on each other, one after the other onto what is placed already."""

from dataclasses import replace

from lucid_relic.alignment.find_fit import find_fit
from lucid_relic.alignment.fit_result import Fit, FitResult, Side
from lucid_relic.executor import in_order, worker_count
from lucid_relic.progress import Progress, part_of, silent
from lucid_relic.types import PassState, PointCloud

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
        j, i, fit = max(fits, key=lambda t: t[2].overlap)
        out[i] = replace(out[i], T_object_pass=out[j].T_object_pass @ fit.T_fixed_moving, placed=True)
        waiting.remove(i)
        done += 1
    return tuple(out), tried


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
