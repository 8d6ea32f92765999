"""How the frames of a pass may move: freely, or as a turntable about its axis.

Every model turns its unknowns into a left perturbation of each frame (rotation about a common centre,
translation) by a Jacobian, so that settle can build one set of normal equations for all passes.
"""

from dataclasses import dataclass, field

import numpy as np
from scipy.sparse import csr_matrix, diags, identity, kron
from scipy.spatial.transform import Rotation

from lucid_relic.geometry.rigid import about_axis, basis_from_z, inverse, small_motion
from lucid_relic.types import PassState

JITTER_MM = 0.01  # a stop is off its place by so much at the most: what good tables hold
JITTER_RAD = np.radians(0.01)  # the same as a turn
DRIFT_TURN, DRIFT_MM = 2e-3, 0.2  # share of the turn and mm along the axis that a table may drift in a whole turn
# Departures of more than so many widths of the jitter were no jitter: the object was knocked, or slid on its plate.
KNOCK_WIDTHS = 8.0
APART_WIDTHS = 18.0  # two runs that differ by less are one: frames by themselves are held so well by their shape
LEAST_HOLD = 1e-4  # of the jitter's precision holds every frame, so that none is without any
SAME_POSE = 1e-7  # smaller differences of poses are rounding
LEAST_STEPS = 6  # of the table that tell its axis anew
AXIS_ROUNDS = 12  # in which steps over a knock are let go
AXIS_STEP = 1e-5  # mm and rad of the finite difference: the middle between rounding and curvature


def moved_about(delta: np.ndarray, centre: np.ndarray) -> np.ndarray:
    """4×4 motion of a perturbation (6,) whose rotation is about `centre`."""
    motion = small_motion(delta)
    motion[:3, 3] += centre - motion[:3, :3] @ centre
    return motion


def _perturbation(motion: np.ndarray, centre: np.ndarray) -> np.ndarray:
    skew = (motion[:3, :3] - motion[:3, :3].T) / 2
    turn = np.array([skew[2, 1], skew[0, 2], skew[1, 0]])
    return np.concatenate([turn, motion[:3, :3] @ centre + motion[:3, 3] - centre])


def _widths(departures: np.ndarray) -> np.ndarray:
    """(n,) size of departures (n, 6) in widths of the jitter."""
    turned = np.linalg.norm(departures[:, :3], axis=1) / JITTER_RAD
    return np.hypot(turned, np.linalg.norm(departures[:, 3:], axis=1) / JITTER_MM)


def _held(widths: np.ndarray) -> np.ndarray:
    """Weight of a prior that lets go of what lies far outside of it."""
    return (1 + (widths / KNOCK_WIDTHS) ** 2) ** -2


@dataclass
class PassMotion:
    """The unknowns of one pass and the poses they give.

    With a turntable: axis point and direction (4 unknowns), a drift (4: the share by which the table turns too far,
    and how far the head creeps over the pass, in mm), the pass's place (6, unless `anchored`) and a small departure
    of every frame (6 each). Drift and pose corrections are held near zero by priors. Without a turntable: 6 a frame.

    Somebody may knock the object, for a frame or from one stop to the end. So at first each frame's departure is held
    to that of the frame before, by a prior that lets go (Geman-McClure) where the shape asks for a jump; `find_breaks`
    then cuts the pass at the jumps, and from there on the departures of a run are held to the run's own mean.
    """

    scan: PassState
    frames: np.ndarray
    anchored: bool
    centre: np.ndarray
    T_object_pass: np.ndarray = field(init=False)
    pose_corrections: np.ndarray = field(init=False)

    def __post_init__(self) -> None:
        self.T_object_pass = self.scan.T_object_pass.copy()
        self.pose_corrections = np.zeros((len(self.frames), 6))
        self.table = self.scan.turntable
        self.drift = np.zeros(4)
        self.runs: list[np.ndarray] | None = None
        if self.table is not None:
            self.axis_point = self.table.axis_point.copy()
            self.axis_frame = basis_from_z(self.table.axis_direction)
            self.angles = np.radians(self.table.degrees[self.frames])
            self.along = np.linspace(0.0, 1.0, len(self.frames))
            self._depart_from_table(self.scan.frame_poses[self.frames])
        else:
            self.free = self.scan.frame_poses[self.frames].copy()

    def _depart_from_table(self, poses: np.ndarray) -> None:
        """Have the frames stand at poses (n, 4, 4) of the pass: most of them where the table puts them, the others off it."""
        ideal = self._on_table(self.axis_point, self.axis_frame[:, 2], self.drift)
        self.T_pass_table = self._most_agreed(poses @ inverse(ideal))
        departures = poses @ inverse(self.T_pass_table @ ideal)
        departures = self.T_object_pass @ departures @ inverse(self.T_object_pass)
        self.pose_corrections = np.zeros((len(poses), 6))
        if np.abs(departures - np.eye(4)).max() > SAME_POSE:
            self.pose_corrections = np.stack([_perturbation(d, self.centre) for d in departures])

    def find_axis(self) -> None:
        """Take the axis anew from how neighbouring frames stand to each other, which a knock changes only once.

        A long run of knocked frames draws the axis to itself, and then no frame stands where the table has it.
        """
        turns = np.diff(self.angles) if self.table is not None else np.zeros(0)
        if np.count_nonzero(turns) < LEAST_STEPS:
            return
        poses = inverse(self.T_object_pass) @ self.poses()
        steps = (inverse(poses[:-1]) @ poses[1:])[turns != 0]  # about the axis as the head sees it
        directions = Rotation.from_matrix(steps[:, :3, :3]).as_rotvec() / -turns[turns != 0, None]
        direction = np.median(directions, axis=0)
        frame = basis_from_z(direction / np.linalg.norm(direction))
        # (1 - R) p = t of every step, for a point that lies beside the old one; steps over a knock are let go.
        slopes = (np.eye(3) - steps[:, :3, :3]) @ frame[:, :2]
        wanted = steps[:, :3, 3] - (np.eye(3) - steps[:, :3, :3]) @ self.axis_point
        weights = np.ones(len(steps))
        for _ in range(AXIS_ROUNDS):
            normal = np.einsum("n,nij,nik->jk", weights, slopes, slopes)
            aside = np.linalg.solve(normal, np.einsum("n,nij,ni->j", weights, slopes, wanted))
            off = np.linalg.norm(slopes @ aside - wanted, axis=1)
            weights = (1 + (off / max(2 * np.median(off), JITTER_MM)) ** 2) ** -2
        self.axis_point, self.axis_frame = self.axis_point + frame[:, :2] @ aside, frame
        self.drift = np.zeros(4)
        self._depart_from_table(poses)

    @staticmethod
    def _most_agreed(places: np.ndarray) -> np.ndarray:
        """That of the places (n, 4, 4) of the table, one told by each frame, from which the others differ least."""
        flat = places.reshape(len(places), -1)
        apart = np.linalg.norm(flat[:, None] - flat[None], axis=2)
        return places[int(np.argmin(np.median(apart, axis=1)))]

    def find_breaks(self) -> None:
        """Cut the frames of a table where their departures jump; those that depart alike belong together again.

        The largest group is where the table put it, the others were knocked off it.
        """
        jumps = np.flatnonzero(_widths(np.diff(self.pose_corrections, axis=0)) > KNOCK_WIDTHS) + 1
        pieces = np.split(np.arange(len(self.frames)), jumps)
        self.runs = []
        for piece in sorted(pieces, key=len, reverse=True):
            here = np.median(self.pose_corrections[piece], axis=0)
            for n, run in enumerate(self.runs):
                if _widths((np.median(self.pose_corrections[run], axis=0) - here)[None])[0] < APART_WIDTHS:
                    self.runs[n] = np.sort(np.append(run, piece))
                    break
            else:
                self.runs.append(piece)

    def knocked(self) -> np.ndarray:
        """(n,) bool: frames that stand off where the table put most of them."""
        if self.table is None or self.runs is None:
            return np.zeros(len(self.frames), bool)
        base = np.median(self.pose_corrections[max(self.runs, key=len)], axis=0)
        return _widths(self.pose_corrections - base) > KNOCK_WIDTHS

    def _on_table(self, point: np.ndarray, direction: np.ndarray, drift: np.ndarray) -> np.ndarray:
        poses = about_axis(point, direction, -self.angles * (1.0 + drift[0]))
        poses[:, :3, 3] += np.einsum("nij,j->ni", poses[:, :3, :3], drift[1:]) * self.along[:, None]
        return poses

    @property
    def own_unknowns(self) -> int:
        """Unknowns besides the per-frame ones."""
        return (8 if self.table is not None else 0) + (0 if self.anchored else 6)

    def ideal_poses(self) -> np.ndarray:
        """(n, 4, 4) camera → object without the pose corrections."""
        if self.table is None:
            return self.T_object_pass @ self.free
        return (
            self.T_object_pass @ self.T_pass_table @ self._on_table(self.axis_point, self.axis_frame[:, 2], self.drift)
        )

    def poses(self) -> np.ndarray:
        """(n, 4, 4) camera → object."""
        moved = np.stack([moved_about(d, self.centre) for d in self.pose_corrections])
        return moved @ self.ideal_poses()

    def jacobian(self) -> np.ndarray:
        """(6n, own unknowns) perturbation of each frame by the axis and the place of the pass."""
        n = len(self.frames)
        blocks = []
        if self.table is not None:
            blocks.append(self._axis_jacobian())
        if not self.anchored:
            blocks.append(np.tile(np.eye(6), (n, 1)))
        return np.concatenate(blocks, axis=1) if blocks else np.zeros((6 * n, 0))

    def _axis_jacobian(self) -> np.ndarray:
        base = inverse(self.ideal_poses())
        place = self.T_object_pass @ self.T_pass_table
        columns = []
        for step in np.eye(8) * AXIS_STEP:
            point, direction = self._axis_moved(step[:4])
            changed = place @ self._on_table(point, direction, self.drift + step[4:]) @ base
            columns.append(np.concatenate([_perturbation(m, self.centre) for m in changed]) / AXIS_STEP)
        return np.stack(columns, axis=1)

    def _axis_moved(self, step: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """The axis after (tilt x, tilt y, shift x, shift y) in its own frame, about its own point."""
        direction = self.axis_frame @ np.array([step[0], step[1], 1.0])
        point = self.axis_point + self.axis_frame[:, :2] @ step[2:]
        return point, direction / np.linalg.norm(direction)

    def own_prior(self) -> tuple[np.ndarray, np.ndarray]:
        """Precision of the own unknowns, and where they stand from what the prior expects: only drift is held."""
        precision, offset = np.zeros(self.own_unknowns), np.zeros(self.own_unknowns)
        if self.table is not None:
            precision[4:8] = [DRIFT_TURN**-2] + [DRIFT_MM**-2] * 3
            offset[4:8] = self.drift
        return precision, offset

    def prior(self, gain: float) -> csr_matrix:
        """(6n, 6n) precision that holds the pose corrections."""
        n = len(self.frames)
        if self.table is None:
            return identity(6 * n, format="csr") * (1e-6 * gain)
        hold = np.zeros((n, n))
        if self.runs is None:
            hold += np.eye(n) * LEAST_HOLD
            tie = _held(_widths(np.diff(self.pose_corrections, axis=0))) / 2
            hold += np.diag(np.append(tie, 0) + np.append(0, tie)) - np.diag(tie, 1) - np.diag(tie, -1)
        else:
            base = max(self.runs, key=len)
            for run in self.runs:
                held = _held(_widths(self.pose_corrections[run] - self._middle(run, base))) + LEAST_HOLD
                hold[run, run] = held
                if run is not base:
                    # To each other, never to where the table has them: however weakly, that draws a far knock back.
                    hold[np.ix_(run, run)] -= np.outer(held, held) / held.sum()
        return kron(csr_matrix(hold), diags([JITTER_RAD**-2] * 3 + [JITTER_MM**-2] * 3), format="csr")

    def _middle(self, run: np.ndarray, base: np.ndarray) -> np.ndarray:
        """The departure (6,) that those of a run are held to: none for the longest run, else what they have in common."""
        return np.zeros(6) if run is base else np.median(self.pose_corrections[run], axis=0)

    def apply(self, own: np.ndarray, pose_corrections: np.ndarray) -> None:
        """Take a step of the solver."""
        used = 0
        if self.table is not None:
            point, direction = self._axis_moved(own[:4])
            self.axis_point, self.axis_frame = point, basis_from_z(direction)
            self.drift = self.drift + own[4:8]
            used = 8
        if not self.anchored:
            self.T_object_pass = moved_about(own[used:], self.centre) @ self.T_object_pass
        steps = pose_corrections.reshape(-1, 6)
        if self.table is not None:
            self.pose_corrections += steps
        else:
            back = inverse(self.T_object_pass)
            for i, step in enumerate(steps):
                self.free[i] = back @ moved_about(step, self.centre) @ self.T_object_pass @ self.free[i]
