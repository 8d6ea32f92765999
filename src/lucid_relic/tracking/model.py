"""The grown model as a judge: how a frame lies on it, and whether that is as it was with the frames before."""

from dataclasses import dataclass, replace

import numpy as np

from lucid_relic.alignment.place_frame import LEAST_SHARE, MIN_NORMAL_COS, looked_through
from lucid_relic.alignment.views import LIGHT_NOISE, STRIDE, FrameView
from lucid_relic.geometry.rigid import difference, inverse
from lucid_relic.tracking import _kernels
from lucid_relic.tracking.live_volume import LiveVolume, ModelView
from lucid_relic.tracking.quick_view import QuickFrame
from lucid_relic.tracking.verdict import Fit, Usual

NEAR, WIDE, FINE = (24.0, 12.0, 6.0, 3.0), (48.0, 24.0, 12.0, 6.0, 3.0), (6.0, 3.0)  # pixel spacings
ROUNDS = 5
LIGHT_TRUST = 0.3  # lamps move with the head and their shading with them: light counts where shape holds little
PREDICTION_HELD = 1e-4  # the share of a firm motion's weight with which the start counts
VOXEL_SPACINGS, ACROSS = 0.55, 220.0  # voxels: finer ones blunt nothing that pixels see; no more than so many across
DEPTHS = (0.4, 2.5)  # of the middle depth, between which the model is looked at
FAR_STEP_DEG = 18.0  # that a fit may turn from where it began before the model is looked at anew
LEAST_LIT, LEAST_CONTRAST = 150, 0.04  # points with light, and its scatter, from which on it can be compared


@dataclass(frozen=True, kw_only=True)
class Limits:
    """How well a frame must fit, each with its unit and reason."""

    min_share: float = 0.25  # of the sample that finds a partner: less is another part of the object
    typical_share: float = 0.6  # of the median share so far: a head that goes on sees new surface too
    typical_fit: float = 2.5  # times the median residual so far: beyond it a frame counts as lost
    first_share: float = (
        0.7  # of what the first frame finds on the model made of it alone, for frames before the median
    )
    first_fit: float = 2.5  # times the noise of the frame, for the first frames
    most_through: float = 0.02  # of what frame and model both see may be looked through
    typical_through: float = 4.0  # times the median so far, where a device tears edges
    learned: int = 5  # frames after which the usual is known
    least_light: float = 0.3  # correlation of the light from which on it can contradict
    unlike: float = 0.45  # of that of the last frames: less contradicts
    found_fit: float = 1.6  # times the median residual that a found frame may have at most
    found_share: float = 0.8  # of the median share that it must have
    found_light: float = 0.7  # of the correlation of the light at the place that it must have


class GrownModel:
    """The model of a pass, begun with its first frame, and how well frames fit it as a rule."""

    def __init__(self, first: QuickFrame, limits: Limits) -> None:
        view = first.view
        self.extent_mm = float(np.ptp(view.points, axis=0).max())
        self.volume = LiveVolume(max(VOXEL_SPACINGS * view.spacing_mm, self.extent_mm / ACROSS), view.noise_mm)
        self.usual = Usual()
        self.limits = limits
        self._first_share = 1.0

    def begin(self, frame: QuickFrame, pose: np.ndarray) -> None:
        """Grow by the first frame, and learn how much of itself it finds there: few pixels at a slant find little."""
        self.volume.add(frame, pose)
        self._first_share = self.laid(frame, pose).share

    def laid(self, frame: QuickFrame, start: np.ndarray, distances: tuple[float, ...] = NEAR) -> Fit:
        """A frame laid onto the model as it is seen from a start; looked at anew where that led far away."""
        seen = self._seen_from(frame, start)
        fit = lay_onto(frame.view, start, seen.pose, seen.view, distances)
        if fit.share > LEAST_SHARE and difference(fit.pose, start)[0] > FAR_STEP_DEG:
            seen = self._seen_from(frame, fit.pose)
            fit = lay_onto(frame.view, fit.pose, seen.pose, seen.view, FINE)
        if fit.share < self.limits.min_share:
            return fit
        through = looked_through(frame.view, fit.pose, [(seen.pose, seen.view)])
        return replace(fit, through=through, light=_light_agreement(frame.view, fit.pose, seen))

    def _seen_from(self, frame: QuickFrame, pose: np.ndarray) -> ModelView:
        middle = float(np.median(frame.view.points[:, 2]))
        return self.volume.seen_from(pose, frame.surface.camera, DEPTHS[0] * middle, DEPTHS[1] * middle, frame.index)

    def fits(self, frame: QuickFrame, fit: Fit) -> bool:
        """Whether a frame fits about as well as those before it did, the first ones as well as their noise allows."""
        limits, usual = self.limits, self.usual
        if fit.share < limits.min_share:
            return False
        if usual.count < limits.learned:
            noise = max(frame.view.noise_mm, 0.1 * frame.view.spacing_mm)
            enough = limits.first_share * self._first_share
            return fit.share > enough and fit.residual_mm < limits.first_fit * noise
        if fit.through > max(limits.most_through, limits.typical_through * usual.through):
            return False
        return self.shape_fits(fit)

    def shape_fits(self, fit: Fit) -> bool:
        """Whether share and residual are as usual, whatever is looked through; false while the usual is not known."""
        limits, usual = self.limits, self.usual
        return usual.count >= limits.learned and (
            fit.share > limits.typical_share * usual.share and fit.residual_mm < limits.typical_fit * usual.residual_mm
        )

    def fits_well(self, fit: Fit, light: float) -> bool:
        """Whether a fit at a place is as good as those of frames that were followed; light is the agreement known there."""
        limits, usual = self.limits, self.usual
        if usual.count < limits.learned:
            return True
        if light > limits.least_light and not fit.light >= limits.found_light * light:
            return False
        return fit.residual_mm < limits.found_fit * usual.residual_mm and fit.share > limits.found_share * usual.share

    def contradicted(self, fit: Fit, doubted: bool = False) -> bool:
        """Whether the light says that a fit cannot be; once it was doubted, only a good agreement takes that back."""
        limits, usual = self.limits, self.usual
        if usual.count < limits.learned or not usual.light > limits.least_light:
            return False
        return fit.light < (limits.found_light if doubted else limits.unlike) * usual.light

    @property
    def tells_by_light(self) -> bool:
        """Whether the light of this object tells places apart."""
        return self.usual.light > self.limits.least_light


def lay_onto(
    view: FrameView, start: np.ndarray, map_pose: np.ndarray, target: FrameView, distances: tuple[float, ...]
) -> Fit:
    """A frame's sample laid onto a map that was seen from map_pose; distances in pixel spacings."""
    hessian = np.zeros((6, 6))
    light_weight = (LIGHT_TRUST * view.noise_mm / LIGHT_NOISE) ** 2 if view.has_light and target.has_light else 0.0
    pose, share, residual = _kernels.lay_onto(
        view.points, view.point_normals, view.weights, view.point_light, start, inverse(map_pose), target.cam, target.rays,
        target.fitted, target.normals, target.confidence, target.light, STRIDE, view.spacing_mm, np.array(distances),
        ROUNDS, MIN_NORMAL_COS, light_weight, PREDICTION_HELD, LEAST_SHARE, hessian,
    )  # fmt: skip
    return Fit(pose, share, residual)


def _light_agreement(view: FrameView, pose: np.ndarray, seen: ModelView) -> float:
    """Correlation (-1 to 1) of a frame's fine light with the model's; NaN where there is too little to compare."""
    if not (view.has_light and seen.view.has_light):
        return np.nan
    sums = np.zeros(6)
    _kernels.light_moments(
        view.points, view.point_light, inverse(seen.pose) @ pose, view.cam, seen.view.fitted, seen.view.light, STRIDE,
        FINE[-1] * view.spacing_mm, sums,
    )  # fmt: skip
    n, a, b, aa, bb, ab = sums
    if n < LEAST_LIT:
        return np.nan
    own, other = aa / n - (a / n) ** 2, bb / n - (b / n) ** 2
    if min(own, other) < LEAST_CONTRAST**2:
        return np.nan
    return float((ab / n - a * b / n**2) / np.sqrt(own * other))
