"""The compiled fusion of frames into blocks, against the same rules written out in numpy, one frame after the other."""

from dataclasses import dataclass, replace

import numpy as np
import pytest
from scenes import Rendered, knot_field, rendered_state, ring_of_views, unpacked

from lucid_relic.fusion import _kernels, tsdf
from lucid_relic.fusion.field import Field, Plan, Shot, _layout
from lucid_relic.fusion.polygonise import polygonise_open
from lucid_relic.fusion.tsdf import _shot, allocate, frames_to_fuse, fuse_volume
from lucid_relic.mending.rims import find_rims
from lucid_relic.progress import silent
from lucid_relic.types import Camera, Part, ScanState

CAMERA = Camera.centred(160, 120, 260.0)
BENT = Camera(160, 120, 260.0, 255.0, 81.0, 58.0, (0.08, -0.02, 0.002, -0.001, 0.0))
VOXEL, TRUNCATION, BEHIND, ALONG, SHALLOW = 1.0, 4.0, 3.0, 2.25, 1.35
IJK = np.stack(np.meshgrid(*3 * [np.arange(8)], indexing="ij"), -1).reshape(-1, 3)
ORIGIN = np.array([0.13, 0.29, 0.41])  # off the cameras' own planes, where pixels meet
PLAN = Plan(ORIGIN, VOXEL, TRUNCATION, BEHIND, ALONG, SHALLOW, 0.05, False)


class Painted(Rendered):
    """A rendered source with photographs of noise, some of it clipped."""

    def colour(self, index: int, part: Part | None = None) -> np.ndarray:
        image = np.random.default_rng(index).integers(0, 256, (120, 160, 3), np.uint8)
        image[::7] = 255
        return image if part is None else np.ascontiguousarray(image[part])


@dataclass
class Plainly:
    """What a fusion holds of blocks (b, 512), worked out in double precision, and how often opposed walls met."""

    distance: np.ndarray
    weight: np.ndarray
    facing: np.ndarray
    colour: np.ndarray
    met: int = 0

    @classmethod
    def empty(cls, blocks: int) -> "Plainly":
        size = (blocks, 512)
        return cls(np.ones(size), np.zeros(size), np.zeros((*size, 3)), np.zeros((*size, 4)))

    def take(self, shot: Shot, coords: np.ndarray) -> None:
        own = shot.touched[[in_sight(shot, coords[b]) for b in shot.touched]]
        places = ORIGIN + (coords[own].astype(float)[:, None] * 8 + IJK) * VOXEL
        T = shot.T_camera_object
        pixels = np.floor(shot.camera.project((places @ T[:3, :3].T + T[:3, 3]).reshape(-1, 3)) + 0.5).astype(int)
        u, v = pixels.T.reshape(2, *places.shape[:2])
        inside = (u >= 0) & (v >= 0) & (u < shot.camera.width) & (v < shot.camera.height)
        words = shot.packed.reshape(-1, 3)[np.where(inside, v * shot.camera.width + u, -1)]
        plane, normal, trust, colour = (a.reshape(*u.shape, *a.shape[1:]) for a in unpacked(words.reshape(-1, 3)))
        centre = -T[:3, :3].T @ T[:3, 3]
        off = (normal * (places - centre)).sum(axis=2) - plane
        away = np.linalg.norm(ORIGIN + (coords[own] * 8 + 3.5) * VOXEL - centre, axis=1)[:, None]
        deep = np.clip(ALONG * np.abs(plane) / away, SHALLOW, ALONG)
        confidence = trust * shot.quality

        distance, weight, facing = self.distance[own], self.weight[own], self.facing[own]
        value, near = np.minimum(off / TRUNCATION, 1), np.abs(off) < deep
        opposed = near & ((normal * facing).sum(axis=2) < _kernels.OPPOSED)
        ok = (confidence > 0) & (off >= -BEHIND) & (off <= 3 * TRUNCATION)
        ok &= (np.abs(value) < np.abs(distance)) | ~opposed
        reached = np.where(off >= -deep, np.clip((deep + off) / (ALONG - VOXEL), 0.02, 1), _kernels.HARDLY)
        share = np.where(ok, confidence * reached, 0)
        kept = np.where(opposed & ok, 0, weight)
        total = kept + share
        self.met += int((opposed & (weight > 0)).sum())
        self.distance[own] = np.where(total > 0, (kept * distance + share * value) / np.maximum(total, 1e-30), 1)
        self.weight[own] = total
        self.facing[own] = np.where((ok & near)[..., None], normal, facing)
        part = np.where(ok & (np.abs(off) < 2 * VOXEL), confidence**2, 0) * shot.coloured
        self.colour[own] += part[..., None] * np.concatenate([colour, np.ones((*u.shape, 1))], axis=2)


def in_sight(shot: Shot, block: np.ndarray) -> bool:
    layout = _layout([shot])[0]
    middle = ORIGIN + (block * 8 + 3.5) * VOXEL
    return _kernels._in_sight(
        shot.T_camera_object, shot.camera.as_vector, layout, shot.tiles.ravel(), *middle, VOXEL, TRUNCATION, BEHIND
    )


def both(state: ScanState) -> tuple[Field, Plainly]:
    frames = frames_to_fuse(state)
    coords, touched = allocate(frames, ORIGIN, VOXEL, TRUNCATION, silent)
    shots = [_shot(scan, i, near, PLAN) for (scan, i), near in zip(frames, touched, strict=True)]
    field, plain = Field.empty(coords), Plainly.empty(len(coords))
    field.add(shots, PLAN)
    for shot in shots:
        plain.take(shot, coords)
    return field, plain


@pytest.fixture(scope="module", params=[CAMERA, BENT], ids=["plain lens", "bent lens"])
def fused(request) -> tuple[Field, Plainly]:
    poses = ring_of_views(6, 150.0, (25.0, -20.0), (0, 0, 15))
    return both(rendered_state(knot_field, poses, request.param, source=Painted))


def differing(ours: np.ndarray, plain: np.ndarray, tolerance: float) -> float:
    return float((np.abs(ours - plain) > tolerance).mean())


# A voxel that falls on the border of two pixels, or of two rules, may go the other way in single precision.
FEW = 1e-3


def test_distances_and_weights_follow_the_rules(fused) -> None:
    field, plain = fused
    assert (plain.weight > 0).mean() > 0.4
    assert differing(field.weight, plain.weight, 1e-4) < FEW
    assert differing(field.distance, plain.distance, 1e-4) < FEW
    assert (field.distance[plain.weight == 0] == 1).mean() > 1 - FEW


def test_voxels_remember_what_they_were_seen_under(fused) -> None:
    field, plain = fused
    ours = field.facing.reshape(-1, 3, 512).transpose(0, 2, 1) / 127
    known = np.abs(plain.facing).sum(axis=2) > 0
    assert known.mean() > 0.15 and differing(ours[known], plain.facing[known], 1.01 / 127) < FEW
    assert ours[~known].any(axis=1).mean() < FEW


def test_colours_are_sums_by_squared_confidence(fused) -> None:
    field, plain = fused
    ours = field.colour.reshape(-1, 4, 512).transpose(0, 2, 1)
    assert (plain.colour[..., 3] > 0).mean() > 0.1
    assert differing(ours, plain.colour, 1e-2) < FEW
    seen = plain.colour[..., 3] > 0.01
    mean = plain.colour[..., :3][seen] / plain.colour[..., 3:][seen]
    assert differing(field.colour_bytes()[seen], mean, 0.51) < FEW


def test_of_two_walls_that_face_away_from_each_other_the_nearer_one_counts() -> None:
    field, plain = both(both_sides_of_a_plate())
    assert plain.met > 1000
    assert differing(field.distance, plain.distance, 1e-4) < FEW
    assert differing(field.weight, plain.weight, 1e-4) < FEW


def test_past_the_rim_of_a_thin_plate_seen_at_a_slant_air_stays_air() -> None:
    state = rendered_state(plate, ring_of_views(8, 140.0, (20.0, -40.0), (0, 0, 0)), CAMERA)
    frames = frames_to_fuse(state)
    coords, touched = allocate(frames, ORIGIN, VOXEL, TRUNCATION, silent)
    off = plate(ORIGIN + (coords[:, None] * 8.0 + IJK) * VOXEL)

    def fused(plan: Plan) -> tuple[int, int]:
        """Voxels told to be solid in the air, more than half of one's width off, and within the plate."""
        field = Field.empty(coords)
        field.add([_shot(scan, i, near, plan) for (scan, i), near in zip(frames, touched, strict=True)], plan)
        solid = (field.weight > _kernels.TOLD) & (field.distance < 0)
        return int((solid & (off > 0.5 * VOXEL)).sum()), int((solid & (off < 0)).sum())

    across, whole = fused(replace(PLAN, along_mm=BEHIND, shallow_mm=BEHIND))
    assert across > 1000 and whole == (off < 0).sum()
    along, held = fused(PLAN)
    assert along < 0.05 * across and held == whole


def test_an_open_surface_seen_at_a_slant_has_no_pin_holes(monkeypatch) -> None:
    state = rendered_state(plate, ring_of_views(8, 140.0, (20.0, -40.0), (0, 0, 0)), CAMERA)

    def small_holes() -> int:
        return sum(rim.length_mm < 10 for rim in find_rims(polygonise_open(fuse_volume(state, VOXEL, silent))))

    assert small_holes() == 0
    monkeypatch.setattr(tsdf, "BEHIND_VOXELS", 0.0)
    assert small_holes() > 2


def plate(p: np.ndarray) -> np.ndarray:
    """How far places lie off a plate of 1.5 mm."""
    q = np.abs(p - (0, 0, 0.23)) - (18.0, 18.0, 0.75)
    return np.linalg.norm(np.maximum(q, 0), axis=-1) + np.minimum(q.max(axis=-1), 0)


def both_sides_of_a_plate() -> ScanState:
    """The plate seen from above and from below in turn."""
    return rendered_state(plate, ring_of_views(3, 140.0, (55.0, -55.0), (0, 0, 0)), CAMERA, source=Painted)
