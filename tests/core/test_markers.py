"""Marker dots: their words, their middles in photographs, the map they make, and the passes they hold."""

import json
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from scenes import QUICK, knot_model, vase_model, write_frames
from scipy.spatial.transform import Rotation

from lucid_relic.alignment.marker_ties import dots_of
from lucid_relic.alignment.settle import settle
from lucid_relic.alignment.track import track_by_markers
from lucid_relic.capture.model import ScanModel
from lucid_relic.capture.steered import HeadPlace, SteeredHead
from lucid_relic.capture.virtual import TurntablePlan, VirtualScanner, tracked_by
from lucid_relic.demo.shapes import box, mesh_of
from lucid_relic.errors import InputError, StepNotPossible
from lucid_relic.geometry.rigid import difference, from_rotvec, inverse, transform_points
from lucid_relic.io.capture_folder import CaptureFolder
from lucid_relic.io.manifest import parse_manifest
from lucid_relic.light.srgb import to_srgb
from lucid_relic.markers import design
from lucid_relic.markers.constellation import Constellation, Held
from lucid_relic.markers.detect import detect
from lucid_relic.markers.in_space import SpaceDots, dots_in_space, told_in_space
from lucid_relic.operations.align.by_markers import ByMarkersParameters, by_markers
from lucid_relic.operations.capture.place_frames import PlaceFramesParameters, place_frames
from lucid_relic.progress import silent
from lucid_relic.tracking import verdict
from lucid_relic.tracking.live_pass import LivePass
from lucid_relic.types import Camera, PassState, ScanState, TriangleMesh

CAMERA = Camera.centred(320, 240, 420.0)
DOTS = np.array(
    [[0, 0, 0], [52, 3, 0], [18, 41, 0], [70, 38, 0], [-25, 30, 0], [33, 77, 0], [-40, -22, 0], [61, -35, 9.0]]
)

FRONT = from_rotvec(np.array([np.pi, 0, 0]), np.array([0, 0, 300.0]))


def picture(numbers: list[int | None], middles: np.ndarray, flat: float, radius: float = 9.0) -> np.ndarray:
    """A photograph of dots on grey, drawn by itself at sixteen times the pixels, slanted so that they are `flat` high."""
    fine = 16
    grid = (np.stack(np.meshgrid(np.arange(320 * fine), np.arange(240 * fine)), axis=-1) + 0.5) / fine - 0.5
    light = np.full(grid.shape[:2], 0.16)
    for number, (u, v) in zip(numbers, middles, strict=True):
        reach = int(3 * radius * fine)
        r, c = int((v + 0.5) * fine), int((u + 0.5) * fine)
        part = (slice(max(r - reach, 0), r + reach), slice(max(c - reach, 0), c + reach))
        x, y = grid[part][..., 0] - u, -(grid[part][..., 1] - v) / flat
        own = design.light_of(x, y, radius, number)
        light[part] = np.where(np.isnan(own), light[part], own)
    coarse = light.reshape(240, fine, 320, fine).mean(axis=(1, 3))
    return np.repeat(to_srgb(coarse)[..., None], 3, axis=2)


def seen_from(pose: np.ndarray, which: list[int], noise_mm: float = 0.0) -> SpaceDots:
    """Some of the dots as a camera at a pose sees them."""
    rng = np.random.default_rng(len(which))
    own = transform_points(inverse(pose), DOTS[which])
    own = own + noise_mm * rng.normal(size=own.shape)
    count = len(which)
    return SpaceDots(own, np.tile([0.05, 0.02], (count, 1)), np.full(count, -1), CAMERA.project(own))


def known(which: list[int] | None = None) -> Constellation:
    """A map of the dots, seen once from the front."""
    dots = seen_from(FRONT, list(range(len(DOTS))) if which is None else which)
    out = Constellation()
    out.learn(0, dots, Held(FRONT, np.full(len(dots), -1), 0.0))
    return out


# -- what a dot looks like -------------------------------------------------------------------------------------------------


def test_no_two_words_can_be_taken_for_each_other_however_they_are_turned() -> None:
    words = design.words()
    assert len(words) >= 20
    turned = [
        [sum(((w >> k) & 1) << ((k + t) % design.PARTS) for k in range(design.PARTS)) for t in range(design.PARTS)]
        for w in words
    ]
    for i, own in enumerate(turned):
        for other in words[:i]:
            assert min((t ^ other).bit_count() for t in own) >= design.LEAST_APART
        for t in own:
            parts = np.array([(t >> k) & 1 > 0 for k in range(design.PARTS)])
            assert design.number_of(parts) == i
    assert design.number_of(np.zeros(design.PARTS, bool)) is None


# Centroids of targets some pixels across are precise to a few hundredths of a pixel (Trinder 1989; from memory).
@pytest.mark.parametrize("flat", [1.0, 0.6, 0.4])
def test_the_middle_of_a_dot_is_found_to_a_small_part_of_a_pixel(flat: float) -> None:
    rng = np.random.default_rng(3)
    at = np.array([[60.0, 60.0], [150.0, 70.0], [240.0, 60.0], [70.0, 170.0], [160.0, 180.0], [250.0, 170.0]])
    at += rng.uniform(-0.5, 0.5, at.shape)
    found = detect(picture([None] * 6, at, flat, 5.0))
    assert len(found) == 6
    off = np.linalg.norm(found.pixel[:, None] - at[None], axis=2).min(axis=1)
    assert off.max() < 0.05


def test_numbers_are_read_from_any_side_or_not_at_all() -> None:
    at = np.array([[60.0, 60.0], [160.0, 70.0], [255.0, 60.0], [70.0, 170.0], [160.0, 170.0], [250.0, 175.0]])
    for flat, radius in ((1.0, 9.0), (0.7, 9.0)):
        found = detect(picture(list(range(6)), at, flat, radius))
        assert len(found) == 6
        for pixel, number in zip(found.pixel, found.number, strict=True):
            assert number == np.linalg.norm(at - pixel, axis=1).argmin()
    small = detect(picture(list(range(6)), at, 0.5, 3.0))
    assert all(
        n in (-1, np.linalg.norm(at - p, axis=1).argmin()) for p, n in zip(small.pixel, small.number, strict=True)
    )


def test_bars_corners_and_gentle_light_are_no_dots() -> None:
    image = np.full((240, 320, 3), 40, np.uint8)
    image[40:44, 50:90] = 240
    image[100:130, 100:130] = 240
    image[160:, 200:] = np.linspace(40, 250, 120, dtype=np.uint8)[None, :, None]
    assert len(detect(image)) == 0


def test_a_dot_lies_as_far_off_as_its_disc() -> None:
    at = np.array([[100.3, 90.2], [220.6, 150.7]])
    image = picture([None, None], at, 1.0, 5.0)
    plane = np.array([0.0002, -0.0001, 1.0 / 300.0])  # 1/z = a x + b y + c in the picture's rays
    depth = (1 / (CAMERA.rays @ plane[:2] + plane[2])).astype(np.float32)
    depth[::3, ::5] = 0
    dots = dots_in_space(image, depth, CAMERA)
    rays = CAMERA.rays_at(at)
    expected = np.column_stack([rays, np.ones(2)]) / (rays @ plane[:2] + plane[2])[:, None]
    np.testing.assert_allclose(dots.points, expected, atol=0.04)
    np.testing.assert_allclose(told_in_space(np.column_stack([at, [7, -1]]), depth, CAMERA).points, expected, atol=0.01)
    assert len(dots_in_space(image, np.zeros_like(depth), CAMERA)) == 0


# -- the map ---------------------------------------------------------------------------------------------------------------


def test_a_frame_is_found_by_the_distances_of_its_dots_wherever_it_was() -> None:
    rng = np.random.default_rng(0)
    dots = known()
    for _ in range(20):
        turn = Rotation.random(random_state=rng.integers(1 << 30)).as_rotvec()
        pose = from_rotvec(turn, rng.normal(size=3) * 150)
        which = sorted(rng.choice(len(DOTS), 6, replace=False).tolist())
        held = dots.held(seen_from(pose, which, 0.03))
        assert held is not None and held.count == 6
        assert held.which.tolist() == which
        # The turn agrees with that of a reference library on the same pairs.
        own = seen_from(pose, which, 0.03).points
        reference, _ = Rotation.align_vectors(DOTS[which] - DOTS[which].mean(axis=0), own - own.mean(axis=0))
        assert difference(held.pose, pose)[0] < 0.15
        assert (reference.inv() * Rotation.from_matrix(held.pose[:3, :3])).magnitude() < np.radians(0.12)


def test_dots_that_look_alike_from_several_sides_or_are_too_few_tell_nothing() -> None:
    angle = np.arange(6) * np.pi / 3
    hexagon = np.stack([40 * np.cos(angle), 40 * np.sin(angle), 300 + 0 * angle], axis=1)
    seen = SpaceDots(hexagon, np.tile([0.05, 0.02], (6, 1)), np.full(6, -1), CAMERA.project(hexagon))
    regular = Constellation()
    regular.learn(0, seen, Held.new(6))
    assert regular.held(seen) is None
    assert regular.held(seen, [np.eye(4)]) is not None
    numbered = replace(seen, number=np.arange(6))
    told = Constellation()
    told.learn(0, numbered, Held.new(6))
    found = told.held(numbered)
    assert found is not None and difference(found.pose, np.eye(4))[0] < 0.01
    assert known().held(seen_from(FRONT, [0, 1])) is None
    on_a_line = SpaceDots(
        np.array([[0, 0, 300.0], [20, 0, 300], [45, 0, 300]]), seen.sigma[:3], seen.number[:3], seen.pixel[:3]
    )
    assert not on_a_line.firm


def test_what_is_no_dot_of_the_map_does_not_spoil_the_place() -> None:
    pose = from_rotvec(np.array([0.2, -0.1, 0.4]), np.array([10.0, 5.0, -260.0]))
    dots = seen_from(pose, [0, 1, 2, 3, 5])
    moved = dots.points.copy()
    moved[1] += [3.0, -2.0, 4.0]
    held = known().held(replace(dots, points=moved))
    assert held is not None and held.which[1] == -1 and difference(held.pose, pose)[0] < 0.01


def test_frames_that_are_forgotten_take_their_dots_with_them() -> None:
    dots = known([0, 1, 2, 3])
    more = seen_from(FRONT, [0, 1, 2, 3, 4, 5])
    held = dots.held(more, [FRONT])
    assert held is not None
    dots.learn(1, more, held)
    assert len(dots) == 6
    dots.forget([1], {0: FRONT})
    assert len(dots) == 4
    again = dots.held(more, [FRONT])
    assert again is not None and again.count == 4


def test_a_number_that_is_read_from_nearer_names_a_dot_that_was_known() -> None:
    dots = known([0, 1, 2, 3])
    near = replace(seen_from(FRONT, [0, 1, 2, 3]), number=np.array([-1, 7, -1, 9]))
    held = dots.held(near, [FRONT])
    assert held is not None
    dots.learn(1, near, held)
    assert dots.number.tolist() == [-1, 7, -1, 9]
    assert dots.held(replace(near, number=np.array([-1, 7, -1, 3])), [FRONT]).which.tolist() == [0, 1, 2, -1]


# -- passes ----------------------------------------------------------------------------------------------------------------


def held_by_hand(by_markers: bool, dots: int = 16) -> tuple[LivePass, list[np.ndarray], SteeredHead]:
    """A quarter turn about a body of revolution without paint on a tray with dots."""
    head = SteeredHead(
        vase_model().matted(), lambda _: None, replace(QUICK, band_mm=(100.0, 800.0)), TurntablePlan(dots=dots), seed=2
    )
    taken: list = []
    live = LivePass(head.camera, lambda i: taken[i], by_markers=by_markers)
    truth = []
    for k in range(24):
        place = HeadPlace(around_deg=4.0 * k, up_deg=32 + 4 * np.sin(k / 4), away_mm=head.distance_mm)
        shot = head.shoot(place, k)
        taken.append((shot.depth, shot.colour))
        truth.append(head.truth_pose(place, k))
        live.push(k, *taken[-1])
    return live, truth, head


@pytest.fixture(scope="module")
def by_dots() -> tuple[LivePass, list[np.ndarray], SteeredHead]:
    return held_by_hand(True)


def worst_deg(live: LivePass, truth: list[np.ndarray]) -> float:
    return max(difference(pose, inverse(truth[0]) @ truth[i])[0] for i, pose in live.poses.items())


def test_markers_hold_a_body_of_revolution_that_shape_lets_slip(by_dots: tuple) -> None:
    live, truth, _ = by_dots
    assert len(live.poses) == 24 and worst_deg(live, truth) < 0.5
    by_shape, same_truth, _ = held_by_hand(False)
    assert worst_deg(by_shape, same_truth) > 5 or len(by_shape.poses) < 20


def test_a_lens_that_was_covered_is_found_by_its_markers_elsewhere_and_few_are_said(by_dots: tuple) -> None:
    live, _, head = by_dots

    def see(k: int, **place: float | bool) -> verdict.Followed:
        here = HeadPlace(**{"up_deg": 32.0, "away_mm": head.distance_mm, **place})
        shot = head.shoot(here, k)
        return live.push(k, shot.depth, shot.colour)

    assert see(24, covered=True).reason == verdict.DARK
    found = see(25, around_deg=10.0)
    assert found.found and found.dots >= 6
    for k in (26, 27, 28):
        assert see(k, around_deg=10.0).state == verdict.HELD
    near = see(29, around_deg=10.0, away_mm=120.0, above_mm=60.0)
    assert near.state != verdict.HELD and near.reason in verdict.REASONS
    live.step_back(23)
    assert max(live.poses) == 23
    assert live.late(30, *live._recall(12)).placed


def test_settling_keeps_what_markers_hold(by_dots: tuple) -> None:
    live, truth, head = by_dots
    frames = 24
    poses = np.stack([live.poses[i] for i in range(frames)])

    class Source:
        key = "by hand"

        def depth(self, index: int, part: object = None) -> np.ndarray:
            return live._recall(index)[0] if part is None else live._recall(index)[0][part]

        def colour(self, index: int, part: object = None) -> np.ndarray:
            return live._recall(index)[1] if part is None else live._recall(index)[1][part]

    scan = PassState(
        "by hand",
        Source(),
        head.camera,
        poses,
        np.ones(frames, bool),
        np.full(frames, np.nan, np.float32),
        True,
        "markers",
    )
    off = {}
    for tracking in ("markers", "shape"):
        done = settle((replace(scan, tracking=tracking),), silent, drop_bad=False).passes[0]
        off[tracking] = max(
            difference(inverse(done.frame_poses[0]) @ p, inverse(truth[0]) @ truth[i])[0]
            for i, p in enumerate(done.frame_poses)
        )
    assert off["markers"] < 0.3 and off["shape"] > 2 * off["markers"]


def by_table(
    root: Path, tracking: str, model: ScanModel | None = None, **plan: float
) -> tuple[CaptureFolder, VirtualScanner]:
    turn = TurntablePlan(**{"stops": 8, "elevation_deg": 35.0, "dots": 16, **plan})
    table = VirtualScanner(model or vase_model().matted(), turn, QUICK, seed=5)
    write_frames(root, table)
    manifest = json.loads((root / "capture.json").read_text())
    (root / "capture.json").write_text(json.dumps(tracked_by(manifest, tracking)))
    return CaptureFolder(root), table


def test_a_turn_of_the_table_is_placed_by_its_markers(tmp_path: Path) -> None:
    folder, table = by_table(tmp_path, "markers")
    scan = folder.as_pass()
    state, report = place_frames(ScanState((scan,)), PlaceFramesParameters(drop_bad=False), silent)
    truth = table.truth_poses()
    off = [
        difference(inverse(state.passes[0].frame_poses[0]) @ p, inverse(truth[0]) @ truth[i])[0]
        for i, p in enumerate(state.passes[0].frame_poses)
    ]
    assert report["passes"][0]["left_out"] == [] and max(off) < 0.4
    lonely = replace(scan, frame_in=np.arange(8) % 4 == 0, source=_Blind(folder))
    with pytest.raises(StepNotPossible, match="four markers in common"):
        track_by_markers(lonely, silent)


def two_by_table(root: Path, model: ScanModel, **second: float) -> tuple[ScanState, np.ndarray]:
    """Two passes of a model on the same tray, placed frame by frame; and where the second lies on the first."""
    one, first = by_table(root / "one", "markers", model, title="low")
    two, other = by_table(root / "two", "markers", model, title="other", **second)
    state = ScanState((one.as_pass(), two.as_pass()))
    state, _ = place_frames(state, PlaceFramesParameters(drop_bad=False), silent)
    return state, inverse(first.truth_poses()[0]) @ other.truth_poses()[0]


def test_passes_that_saw_the_same_markers_are_placed_by_them(tmp_path: Path) -> None:
    state, truth = two_by_table(tmp_path, vase_model().matted(), start_deg=70.0, elevation_deg=50.0)
    placed, report = by_markers(state, ByMarkersParameters(), silent)
    assert report["not_placed"] == [] and report["fits"][0]["markers"] >= 6
    motion = inverse(placed.passes[0].T_object_pass) @ placed.passes[1].T_object_pass
    assert difference(motion, truth)[0] < 0.4
    with pytest.raises(StepNotPossible, match="placed already"):
        by_markers(placed, ByMarkersParameters(), silent)
    _, again = by_markers(placed, ByMarkersParameters(again=True), silent)
    assert again["placed"] == ["low", "other"]


def test_an_object_that_was_laid_anew_among_its_markers_is_not_placed_by_them(tmp_path: Path) -> None:
    state, _ = two_by_table(tmp_path, knot_model(), tip_deg=90.0)
    with pytest.raises(StepNotPossible, match="laid anew among them"):
        by_markers(state, ByMarkersParameters(), silent)
    bare = replace(state.passes[1], source=_Blind(CaptureFolder(tmp_path / "two")))
    with pytest.raises(StepNotPossible, match="“other” show no markers"):
        by_markers(replace(state, passes=(state.passes[0], bare)), ByMarkersParameters(), silent)


def test_dots_on_the_object_itself_are_seen_with_their_numbers_wherever_it_lies() -> None:
    flat = ScanModel.plain(_block())
    seen = []
    for tip in (0.0, 15.0):
        traits = replace(QUICK, width=640, height=480, focal_px=900.0, noise_mm=0.01)
        head = VirtualScanner(
            flat, TurntablePlan(stops=1, elevation_deg=60.0, tip_deg=tip, object_dots=9, coded=True), traits
        )
        shot = head.shoot(0)
        dots = dots_in_space(shot.colour, shot.depth, head.camera)
        told = dots.number >= 0
        assert told.sum() >= 3
        seen.append(
            dict(
                zip(dots.number[told].tolist(), transform_points(head.truth_poses()[0], dots.points[told]), strict=True)
            )
        )
    both = seen[0].keys() & seen[1].keys()
    assert len(both) >= 3 and max(np.linalg.norm(seen[0][n] - seen[1][n]) for n in both) < 0.3


def _block() -> TriangleMesh:
    """A box of 90 × 70 × 20 mm, its sides in steps of 2 mm."""
    return mesh_of(lambda p: box(p, (0, 0, 10), (45, 35, 10)), (-48, -38, -3), (48, 38, 23), 2.0)


class _Blind:
    """A source whose photographs show nothing."""

    def __init__(self, folder: CaptureFolder) -> None:
        self.key, self._folder = "blind", folder

    def depth(self, index: int, part: object = None) -> np.ndarray:
        return self._folder.depth(index)

    def colour(self, index: int, part: object = None) -> np.ndarray:
        return np.zeros((*self._folder.depth(index).shape, 3), np.uint8)


def test_markers_that_a_manifest_names_are_taken_as_they_are(tmp_path: Path) -> None:
    folder, _ = by_table(tmp_path, "markers")
    seen = dots_of(folder.as_pass(), 0)
    manifest = json.loads((tmp_path / "capture.json").read_text())
    manifest["frames"][0]["markers"] = seen.as_marks()[:4]
    (tmp_path / "capture.json").write_text(json.dumps(manifest))
    told = dots_of(CaptureFolder(tmp_path).as_pass(), 0)
    assert len(told) == 4
    np.testing.assert_allclose(told.points, seen.points[:4], atol=0.1)


@pytest.mark.parametrize(
    ("markers", "told"),
    [
        ([{"u": 3}], r"frames\[0\].markers\[0\].v is missing"),
        ([{"u": 3, "v": float("nan")}], "NaN"),
        ([{"u": 3, "v": 4, "id": -7}], "id must be a number"),
        ("many", "markers must be a list"),
        ([[1, 2]], r"markers\[0\] must be an object"),
        ([{"u": 1, "v": 1}] * 501, "at most 500"),
    ],
)
def test_markers_that_cannot_be_are_refused_by_name(markers: object, told: str) -> None:
    manifest = {
        "format": "lucid-relic/capture", "version": 1, "depth_unit_mm": 0.02, "tracking": "markers",
        "camera": {"width": 8, "height": 8, "fx": 9, "fy": 9, "cx": 3.5, "cy": 3.5},
        "frames": [{"depth": "depth/0.png", "markers": markers}],
    }  # fmt: skip
    with pytest.raises(InputError, match=told):
        parse_manifest(json.dumps(manifest))
