"""Passes placed by threads and by dragging: exact from rough picks, a wrong thread named, wrong places refused."""

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from scenes import QUICK, cloud_pass, knot_model, part_scan, write_frames
from scipy.spatial import cKDTree
from scipy.spatial.transform import Rotation

from lucid_relic.alignment.by_hand import believed_threads
from lucid_relic.capture.virtual import TurntablePlan, VirtualScanner
from lucid_relic.errors import ParameterError, StepNotPossible
from lucid_relic.geometry.rigid import difference, inverse, transform_points
from lucid_relic.io.capture_folder import CaptureFolder
from lucid_relic.operations import get_operation
from lucid_relic.progress import silent
from lucid_relic.types import ScanState


def run(state: ScanState, name: str, **parameters) -> tuple[ScanState, dict]:
    step = get_operation(name)
    return step.run(state, step.parameters.from_dict(parameters), silent)


def motion(seed: int, degrees: float, shift: float) -> np.ndarray:
    rng = np.random.default_rng(seed)
    out = np.eye(4)
    axis, way = (v / np.linalg.norm(v) for v in rng.normal(size=(2, 3)))
    out[:3, :3] = Rotation.from_rotvec(np.radians(degrees) * axis).as_matrix()
    out[:3, 3] = shift * way
    return out


@pytest.fixture(scope="module")
def parts(tmp_path_factory: pytest.TempPathFactory) -> tuple[ScanState, np.ndarray]:
    """Two part scans of the lump as points, the second moved anywhere, and its motion back."""
    root: Path = tmp_path_factory.mktemp("parts")
    mesh = knot_model(0.8).mesh
    ways = (np.array([0.6, -0.6, 0.5]), np.array([-0.2, -0.5, 0.85]))
    cuts = [part_scan(mesh, tuple(w / np.linalg.norm(w))) for w in ways]
    away = motion(5, 140.0, 60.0)
    passes = [cloud_pass(cut, root / str(k)) for k, cut in enumerate((cuts[0], cuts[1].transformed(away)))]
    first, second = (replace(p, title=t) for p, t in zip(passes, ("front", "above"), strict=True))
    return ScanState((first, second)), inverse(away)


def threads(parts: tuple[ScanState, np.ndarray], seed: int, count: int, off_mm: float) -> list[dict]:
    """Spots that both parts have, picked up to some mm off on both sides."""
    state, back = parts
    rng = np.random.default_rng(seed)
    fixed = state.passes[0].cloud.cloud.points.astype(np.float64)
    moving = state.passes[1].cloud.cloud.points.astype(np.float64)
    placed = transform_points(back, moving)
    away, near = cKDTree(fixed).query(placed)
    common = np.flatnonzero(away < 0.5)
    chosen = [common[rng.integers(len(common))]]
    while len(chosen) < count:
        far = np.linalg.norm(placed[common][:, None] - placed[chosen][None], axis=2).min(axis=1)
        chosen.append(common[rng.choice(np.flatnonzero(far > 0.7 * far.max()))])
    slip = lambda: (lambda v: off_mm * v / np.linalg.norm(v))(rng.normal(size=3))  # noqa: E731
    return [{"fixed": (fixed[near[k]] + slip()).tolist(), "moving": (moving[k] + slip()).tolist()} for k in chosen]


@pytest.mark.parametrize("seed", range(4))
def test_three_rough_threads_place_a_pass_exactly(parts: tuple[ScanState, np.ndarray], seed: int) -> None:
    # Common practice (no source): three pairs are what a rigid motion needs; a hand picks 1-2 mm off.
    state, report = run(parts[0], "match_points", pairs=threads(parts, seed, 3, 1.5))
    turned, shifted = difference(state.passes[1].T_object_pass, parts[1])
    assert turned < 0.05 and shifted < 0.05 and state.passes[1].placed and state.passes[0].placed
    assert report["overlap"] > 0.3 and all(t["used"] for t in report["threads"]) and report["against"] == ""
    # After refining, what remains is what the hand was off.
    assert all(0.0 < t["residual_mm"] < 3.5 for t in report["threads"])


@pytest.mark.parametrize("wrong", range(4))
def test_one_wrong_thread_of_four_is_named_and_left_out(parts: tuple[ScanState, np.ndarray], wrong: int) -> None:
    tied = threads(parts, 7, 4, 1.0)
    tied[wrong]["moving"] = (np.array(tied[wrong]["moving"]) + [12.0, -12.0, 10.0]).tolist()
    state, report = run(parts[0], "match_points", **{"pass": "above", "pairs": tied})
    assert [t["used"] for t in report["threads"]] == [k != wrong for k in range(4)]
    assert report["threads"][wrong]["residual_mm"] > 12
    turned, shifted = difference(state.passes[1].T_object_pass, parts[1])
    assert turned < 0.05 and shifted < 0.05
    assert ", 1 left out" in get_operation("match_points").headline_of(report)


def test_the_preview_says_how_far_every_thread_is_off_and_what_is_missing(parts: tuple[ScanState, np.ndarray]) -> None:
    step = get_operation("match_points")
    tied = threads(parts, 7, 4, 1.0)
    tied[2]["moving"] = (np.array(tied[2]["moving"]) + [12.0, -12.0, 10.0]).tolist()
    figures = step.preview(parts[0], step.parameters.from_dict({"pairs": tied})).figures
    assert [t["used"] for t in figures["threads"]] == [True, True, False, True] and figures["missing"] == ""
    assert figures["pass"] == "above" and figures["threads"][2]["picked_mm"] > 12
    turned, shifted = difference(np.array(figures["T_object_pass"]), parts[1])
    assert turned < 0.6 and shifted < 0.6, "the surfaces as shown say where it would lie"
    assert figures["overlap"] > 0.3 and figures["rms_mm"] < 0.5
    figures = step.preview(parts[0], step.parameters.from_dict({"pairs": tied[:2]})).figures
    assert figures["threads"] == [] and "tie 1 more" in figures["missing"]


def test_threads_that_cannot_place_anything_are_told_why(parts: tuple[ScanState, np.ndarray]) -> None:
    state = parts[0]
    tied = threads(parts, 2, 3, 1.0)
    for pairs, why in (
        (tied[:2], "2 threads are tied; three are needed: tie 1 more"),
        ([{"fixed": [k, 0, 0], "moving": [k, 0, 0]} for k in (0, 20, 40)], "lie on one line"),
        ([{"fixed": [*f], "moving": [*m]} for f, m in ZIGZAG], "No three threads agree"),
    ):
        with pytest.raises(StepNotPossible, match=why):
            run(state, "match_points", pairs=pairs)
    with pytest.raises(ParameterError, match="no pass “below”"):
        run(state, "match_points", **{"pass": "below", "pairs": tied})
    with pytest.raises(StepNotPossible, match="only one pass"):
        run(replace(state, passes=state.passes[:1]), "match_points", **{"pass": "front", "pairs": tied})


ZIGZAG = (((0, 0, 0), (0, 0, 0)), ((30, 0, 0), (60, 0, 0)), ((0, 30, 0), (0, 10, 0)))


def test_a_thread_count_decides_for_the_larger_number_that_agrees() -> None:
    rng = np.random.default_rng(1)
    moving = rng.uniform(-40, 40, (9, 3))
    true = motion(3, 77.0, 15.0)
    fixed = transform_points(true, moving) + rng.normal(0, 0.3, (9, 3))
    fixed[[1, 4, 6]] += rng.uniform(10, 30, (3, 3))
    believed = believed_threads(fixed, moving, 80.0)
    assert np.flatnonzero(~believed.used).tolist() == [1, 4, 6]
    turned, shifted = difference(believed.T_fixed_moving, true)
    assert turned < 1.5 and shifted < 1.0


@pytest.fixture(scope="module")
def turns(tmp_path_factory: pytest.TempPathFactory) -> tuple[ScanState, np.ndarray]:
    """Two passes from a table, the second tipped, with frames placed and cut, and where the second belongs."""
    root: Path = tmp_path_factory.mktemp("turns")
    plans = (TurntablePlan(stops=8), TurntablePlan(stops=8, tip_deg=90.0, title="tipped"))
    scanners = [VirtualScanner(knot_model(1.5), plan, QUICK, seed=k) for k, plan in enumerate(plans)]
    for scanner, plan in zip(scanners, plans, strict=True):
        write_frames(root / plan.title, scanner)
    state = ScanState(tuple(CaptureFolder(root / plan.title).as_pass() for plan in plans))
    for name in ("place_frames", "stand_cut"):
        state, _ = run(state, name)
    a, b = state.passes
    T_model_object = scanners[0].truth_poses()[0] @ inverse(a.T_object_camera(0))
    return state, inverse(T_model_object) @ scanners[1].truth_poses()[0] @ inverse(b.frame_poses[0])


@pytest.mark.parametrize(("seed", "degrees", "shift"), [(1, 15.0, 5.0), (2, 8.0, 10.0), (3, 12.0, 8.0)])
def test_a_pass_that_is_dragged_near_snaps(
    turns: tuple[ScanState, np.ndarray], seed: int, degrees: float, shift: float
) -> None:
    state, true = turns
    middle = np.eye(4)
    middle[2, 3] = 25.0
    let_go = middle @ motion(seed, degrees, shift) @ inverse(middle) @ true
    after, report = run(state, "snap", at=let_go.tolist())
    turned, shifted = difference(after.passes[1].T_object_pass, true)
    assert turned < 0.5 and shifted < 0.3 and report["turned_deg"] > 5
    shown = (
        get_operation("snap")
        .preview(state, get_operation("snap").parameters.from_dict({"at": let_go.tolist()}))
        .figures
    )
    turned, shifted = difference(np.array(shown["T_object_pass"]), true)
    assert turned < 1.5 and shifted < 1.0 and shown["common"] and shown["overlap"] > shown["here"] + 0.2
    # It was turned about the middle of the object, and moved by so much there.
    assert shown["shifted_mm"] == pytest.approx(shift, abs=2.5) and report["shifted_mm"] == pytest.approx(
        shift, abs=2.5
    )


def test_a_pass_that_is_dragged_to_a_wrong_place_is_refused(turns: tuple[ScanState, np.ndarray]) -> None:
    state, true = turns
    for seed, degrees in ((4, 180.0), (5, 90.0)):
        wrong = motion(seed, degrees, 0.0) @ true
        with pytest.raises(StepNotPossible, match="does not snap here: "):
            run(state, "snap", at=wrong.tolist())
        trusted, report = run(state, "snap", at=wrong.tolist(), trust=True)
        assert trusted.passes[1].placed and report["against"]
