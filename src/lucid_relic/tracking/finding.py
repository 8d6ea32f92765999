"""Finding a lost head again: where its frame fits the model, and nowhere else as well."""

from dataclasses import dataclass
from itertools import chain

import numpy as np

from lucid_relic.geometry.rigid import about_axis, difference
from lucid_relic.tracking import verdict
from lucid_relic.tracking.model import NEAR, WIDE, GrownModel
from lucid_relic.tracking.places import Places, middle_of, placed_like
from lucid_relic.tracking.quick_view import QuickFrame, grip_of
from lucid_relic.tracking.verdict import Fit

TRIES = 5  # places at which a lost frame is looked for
SPREAD_PLACES = 6  # that are asked too whether a find fits there, where no light tells places apart
ELSEWHERE_DEG = np.array([-100.0, -50.0, -25.0, 25.0, 50.0, 100.0, 180.0])  # about an axis that nothing holds
CAUGHT_DEG = np.concatenate([np.arange(-60.0, 0.0, 7.5), np.arange(7.5, 61.0, 7.5)])
DOUBTFUL_LIGHT = 0.75  # of the agreement of the last frames, below which a leap about a free axis is looked for
CAUGHT_LIGHT = 0.12  # by which the light must agree better there
CAUGHT_SHARE = 0.8  # of the agreement of the last frames that it must reach there
ALIKE_FIT = 1.35  # times the residual of the best place: another place that fits so well is a rival
ALIKE_SHARE = 0.8  # of the best place's share
ALIKE_THROUGH = 2.0  # times what is looked through at the best place
APART_DEG, APART_SPACINGS = 8.0, 8.0  # between two places that are not the same one


@dataclass(frozen=True)
class Search:
    """Where a frame was found, or why it was not."""

    fit: Fit | None
    reason: str = ""


def search(frame: QuickFrame, model: GrownModel, places: Places, last: np.ndarray) -> Search:
    """Look for a lost frame where it was last and at the places that it looks like."""
    starts = [(last, places.known[-1].light), *places.likely(frame.view, TRIES)]
    tried = [(model.laid(frame, start, WIDE), light) for start, light in starts]
    fitting = [fit for fit, light in tried if model.fits(frame, fit) and model.fits_well(fit, light)]
    if not fitting:
        return Search(None)
    best = max(fitting, key=_worth)
    others = (model.laid(frame, start, WIDE) for start in _where_else(frame, best, places))
    if any(_apart(best, other, frame) and _rivals(best, other, model) for other in chain(fitting, others)):
        return Search(None, verdict.ALIKE)
    return Search(best)


def caught(frame: QuickFrame, fit: Fit, model: GrownModel) -> Fit:
    """A fit, or a better one turned on about an axis that the shape does not hold, where the light tells it.

    Asked only where the light agrees less than with the last frames: on such a body a leap looks like none.
    """
    if not model.tells_by_light or not fit.light < DOUBTFUL_LIGHT * model.usual.light:
        return fit
    turns = [turn for some in _free_turns(frame, CAUGHT_DEG) for turn in some]
    tried = [model.laid(frame, fit.pose @ turn, NEAR) for turn in turns]
    least = max(fit.light + CAUGHT_LIGHT, CAUGHT_SHARE * model.usual.light)
    better = [one for one in tried if model.fits(frame, one) and one.light > least]
    return max(better, key=lambda one: one.light, default=fit)


def _free_turns(frame: QuickFrame, degrees: np.ndarray) -> list[np.ndarray]:
    """Turns (n, 4, 4) about every axis that a frame's shape does not hold."""
    slips = grip_of(frame.view).slips
    return [about_axis(s.through, s.direction, np.radians(degrees)) for s in slips if s.kind == "turn"]


def _worth(fit: Fit) -> float:
    """How good a fit is among others of the same frame."""
    light = fit.light if np.isfinite(fit.light) else 0.5
    return fit.share / max(fit.residual_mm, 1e-6) * (1.0 + light)


def _where_else(frame: QuickFrame, fit: Fit, places: Places) -> list[np.ndarray]:
    """Other poses at which a frame may fit as well.

    Turned on about an axis that its shape does not hold; and where no light tells places apart, at places all round.
    """
    view = frame.view
    starts = [fit.pose @ turn for some in _free_turns(frame, ELSEWHERE_DEG) for turn in some]
    if not np.isfinite(fit.light):
        even = np.linspace(0, len(places.known) - 1, min(len(places.known), SPREAD_PLACES)).astype(int)
        starts += [placed_like(places.known[k], middle_of(view)) for k in even]
    return starts


def _apart(a: Fit, b: Fit, frame: QuickFrame) -> bool:
    middle, between = middle_of(frame.view), a.pose - b.pose
    shift = np.linalg.norm(between[:3, :3] @ middle + between[:3, 3])
    return bool(difference(a.pose, b.pose)[0] > APART_DEG or shift > APART_SPACINGS * frame.view.spacing_mm)


def _rivals(best: Fit, other: Fit, model: GrownModel) -> bool:
    """Whether another fit may be the right one as well."""
    limits = model.limits
    if best.light > limits.least_light and other.light < limits.unlike * best.light:
        return False
    if other.through > max(limits.most_through, ALIKE_THROUGH * best.through):
        return False
    return other.residual_mm < ALIKE_FIT * best.residual_mm and other.share > ALIKE_SHARE * best.share
