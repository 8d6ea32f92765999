"""The stand-in for a plain camera and a line laser: pictures of an object before a corner, the line swept by hand."""

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np
from scipy.ndimage import map_coordinates

from lucid_relic.capture.model import ScanModel
from lucid_relic.capture.optics import look, photograph
from lucid_relic.capture.scene import Body, ScanScene
from lucid_relic.capture.traits import ScannerTraits
from lucid_relic.geometry.rigid import about_axis, inverse, looking_down
from lucid_relic.light.srgb import to_srgb
from lucid_relic.types import Camera

BOARD_PX_PER_MM = 6.0
DOWN_DEG = 8.0  # that the camera looks down
FINE = 3  # looks a pixel each way at the boards
AMBIENT, LASER = 0.10, 0.9  # linear light of a dim room on white, and of the line
LINE_SIGMA_MM = 0.55
SPECKLE, NOISE = 0.08, 0.002
LINE_COLOUR = np.array([1.0, 0.03, 0.03])
BOARD_DARK, BOARD_BRIGHT = 0.04, 0.62
BESIDE_EDGE_MM, ABOVE_MM = 14.0, 20.0  # of the boards: from the corner's edge, and above the object's middle


@dataclass(frozen=True, kw_only=True)
class SweepPlan:
    """How many sweeps, each after the object was turned on by hand; pictures of each; where things stand (mm)."""

    sweeps: int = 11
    pictures: int = 240
    distance_mm: float = 480.0
    wall_mm: float = 150.0
    laser_above_mm: float = 300.0
    tip_deg: float = 0.0
    title: str = "line sweeps"


class LineLaser:
    """Pictures by sweep and number; walls and lens are hidden in them as in real ones.

    boards are the pictures (h, w) uint8, `BOARD_PX_PER_MM` fine, of what hangs on the left and the right wall.
    """

    def __init__(
        self, model: ScanModel, plan: SweepPlan, camera: Camera, boards: tuple[np.ndarray, np.ndarray], seed: int = 0
    ) -> None:
        self.plan, self.camera, self.seed, self._boards = plan, camera, seed, boards
        rng = np.random.default_rng([seed, 5])
        lying, self._T_stand_model = model.lying(plan.tip_deg)
        reach = float(np.linalg.norm(lying.mesh.vertices[:, :2], axis=1).max())
        self._middle = float(lying.mesh.vertices[:, 2].max()) / 2
        # Turned on by hand: a full turn in about even steps.
        step = 360.0 / plan.sweeps
        self._turns = np.arange(plan.sweeps) * step + rng.uniform(-0.2, 0.2, plan.sweeps) * step
        self._scene = ScanScene(lying, body=Body.of(model), lying=self._T_stand_model)
        self._scene.plate_radius = 0.0
        self._head = looking_down(plan.distance_mm, DOWN_DEG)
        self._head[2, 3] += self._middle
        edge = max(plan.wall_mm, 1.5 * reach)
        self._walls = [np.array([s, -1.0, 0, 0]) / np.sqrt(2) for s in (1.0, -1.0)]
        for wall in self._walls:
            wall[3] = -edge / np.sqrt(2)
        self._laser = np.array([30.0, -plan.distance_mm * 0.9, self._middle + plan.laser_above_mm])

    def truth_planes(self) -> np.ndarray:
        """(2, 4) planes of the walls in the camera's frame, for tests only."""
        T = inverse(self._head)
        normals = [T[:3, :3] @ w[:3] for w in self._walls]
        return np.stack([np.append(n, w[3] + n @ T[:3, 3]) for n, w in zip(normals, self._walls, strict=True)])

    def truth_poses(self) -> np.ndarray:
        """(n, 4, 4) camera → model for each sweep, for tests only."""
        back = np.stack([self._turned(k) for k in range(self.plan.sweeps)])
        return inverse(self._T_stand_model) @ back

    def _turned(self, sweep: int) -> np.ndarray:
        return about_axis(np.zeros(3), np.array([0, 0, 1.0]), -np.radians(self._turns[sweep])) @ self._head

    def corner_picture(self) -> np.ndarray:
        """(h, w, 3) uint8 picture of the empty corner with its boards."""
        rng = np.random.default_rng([self.seed, 6])
        looks = []
        steps = (np.arange(FINE) - (FINE - 1) / 2) / FINE
        for du, dv in np.stack(np.meshgrid(steps, steps), axis=-1).reshape(-1, 2):
            _, at, albedo = self._corner(replace(self.camera, cx=self.camera.cx - du, cy=self.camera.cy - dv))
            looks.append(np.where(np.isfinite(at[..., 0]), 0.9 * albedo, 0.02))
        grey = np.mean(looks, axis=0)
        return np.repeat(to_srgb(grey + 0.003 * rng.normal(size=grey.shape))[..., None], 3, axis=2)

    def _corner(self, camera: Camera | None = None) -> tuple[np.ndarray, ...]:
        """Which wall (h, w), its places (h, w, 3) and its albedo (h, w)."""
        way = ((camera or self.camera).sight_lines @ self._head[:3, :3].T).astype(np.float64)
        eye = self._head[:3, 3]
        with np.errstate(divide="ignore", invalid="ignore"):
            t = np.stack([(w[3] - w[:3] @ eye) / (way @ w[:3]) for w in self._walls], axis=-1)
        t = np.where(t > 0, t, np.inf)
        wall, nearest = t.argmin(axis=-1), t.min(axis=-1)
        at = eye + np.where(np.isfinite(nearest), nearest, np.nan)[..., None] * way
        albedo = np.where(wall == 0, self._board(at, 0), self._board(at, 1))
        return wall, at, albedo

    def _board(self, at: np.ndarray, side: int) -> np.ndarray:
        """Albedo of a wall with its board, which begins beside the corner's edge."""
        picture = self._boards[side].astype(np.float64) / 255
        h, w = np.array(picture.shape) / BOARD_PX_PER_MM
        along = np.sqrt(2) * np.abs(at[..., 0])
        x = along - BESIDE_EDGE_MM if side else w + BESIDE_EDGE_MM - along
        y = self._middle + h / 2 + ABOVE_MM - at[..., 2]
        rows, columns = (
            np.nan_to_num(y * BOARD_PX_PER_MM - 0.5, nan=-1),
            np.nan_to_num(x * BOARD_PX_PER_MM - 0.5, nan=-1),
        )
        ink = map_coordinates(picture, [rows, columns], order=1, cval=0.9, prefilter=False)
        return BOARD_DARK + (BOARD_BRIGHT - BOARD_DARK) * ink

    def photograph(self, sweep: int) -> np.ndarray:
        """(h, w, 3) uint8 photograph under the lamp, before the line is swept."""
        rng = np.random.default_rng([self.seed, 7, sweep])
        seen = look(self._scene, self.camera, self._turned(sweep))
        traits = ScannerTraits()
        picture, _ = photograph(seen, self._turned(sweep), traits, rng)
        shape = (self.camera.height, self.camera.width)
        _, at, albedo = self._corner()
        wall = to_srgb(np.where(np.isfinite(at[..., 0]), 0.8 * albedo, 0.02))
        return np.where(seen.hit.reshape(shape)[..., None], picture.reshape(*shape, 3), wall[..., None])

    def pictures(self, sweep: int) -> Iterator[np.ndarray]:
        """(h, w, 3) uint8 pictures of one sweep in their order."""
        rng = np.random.default_rng([self.seed, 8, sweep])
        shape = (self.camera.height, self.camera.width)
        pose = self._turned(sweep)
        seen = look(self._scene, self.camera, pose)
        hit = seen.hit.reshape(shape)
        # Everything in the frame of the stand, turned with the object: the walls stay with the camera.
        still = pose @ inverse(self._head)
        wall, at, albedo = self._corner()
        points = np.where(
            hit[..., None], seen.points.reshape(*shape, 3), np.nan_to_num(at, nan=1e6) @ still[:3, :3].T + still[:3, 3]
        )
        walls = np.stack([w[:3] for w in self._walls]) @ still[:3, :3].T
        normals = np.where(hit[..., None], seen.normal.reshape(*shape, 3), walls[wall])
        red = np.where(hit, seen.albedo[:, 0].reshape(shape), albedo)
        ground = np.where(hit[..., None], seen.albedo.reshape(*shape, 3), albedo[..., None])
        lamp = still[:3, :3] @ self._laser + still[:3, 3]
        to_lamp = lamp - points
        to_lamp /= np.linalg.norm(to_lamp, axis=2, keepdims=True)
        facing = np.clip(np.einsum("ijk,ijk->ij", normals, to_lamp), 0, 1)
        base = AMBIENT * ground
        plain = [to_srgb(base + NOISE * rng.normal(size=base.shape)) for _ in range(3)]
        points, normals, base = points.reshape(-1, 3), normals.reshape(-1, 3), base.reshape(-1, 3)
        answer = (LASER * red * facing).ravel()
        for k, normal in enumerate(self._planes(rng)):
            away = (points - lamp) @ (still[:3, :3] @ normal)
            lit = np.flatnonzero(np.abs(away) < 4 * LINE_SIGMA_MM)
            shadow = self._scene.in_shadow(points[lit], normals[lit], lamp)
            line = np.where(shadow, 0, np.exp(-0.5 * (away[lit] / LINE_SIGMA_MM) ** 2) * answer[lit])
            line *= 1 + SPECKLE * rng.normal(size=len(lit))
            out = plain[k % len(plain)].reshape(-1, 3).copy()
            out[lit] = to_srgb(base[lit] + line[:, None] * LINE_COLOUR + NOISE * rng.normal(size=(len(lit), 3)))
            yield out.reshape(*shape, 3)

    def _planes(self, rng: np.random.Generator) -> Iterator[np.ndarray]:
        """(3,) normals of the laser's plane for each picture: swept across the object by an unsteady hand."""
        reach = 1.25 * self._middle + 8.0
        lean = 0.12 * np.sin(np.linspace(0, 2.2, self.plan.pictures) + rng.uniform(0, 6))
        for k in range(self.plan.pictures):
            down = -reach + 2 * reach * (k + rng.uniform(-0.25, 0.25)) / (self.plan.pictures - 1)
            way = np.array([0.0, 0.0, self._middle + down]) - self._laser
            normal = np.cross(way, [np.cos(lean[k]), 0.0, np.sin(lean[k])])
            yield normal / np.linalg.norm(normal)
