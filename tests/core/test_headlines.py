"""What a step's report says at a glance, and running a list of operations as one."""

import pytest
from scenes import uv_sphere

from lucid_relic.errors import StepNotPossible
from lucid_relic.operations import Need, get_operation, list_operations
from lucid_relic.operations.parameters import Parameters
from lucid_relic.operations.recipe import RecipeStep
from lucid_relic.operations.registry import operation
from lucid_relic.operations.run import run_steps
from lucid_relic.operations.words import THIN, count, mm, percent
from lucid_relic.progress import silent
from lucid_relic.types import ScanState


@pytest.mark.parametrize(
    ("name", "report", "says"),
    [
        ("simplify", {"triangles_before": 600_000, "triangles": 300_000, "hausdorff_mm": 0.0}, "600 k → 300 k"),
        (
            "simplify",
            {"triangles_before": 600_000, "triangles": 300_000, "hausdorff_mm": 0.0421},
            "600 k → 300 k, off 0.042 mm",
        ),
        ("close", {"holes_closed": 12, "holes_left": 2, "made_up_area_fraction": 0.1}, "closed 12, left 2"),
        ("close", {"made_up_area_fraction": 0.034}, "made up 3.4 %"),
        ("gather_points", {"points": 126_984, "spacing_mm": 0.385}, "127 k points, 0.39 mm apart"),
        ("find_fit", {"not_placed": ["tipped"], "fits": []}, "not accepted"),
        ("find_fit", {"not_placed": [], "fits": [{"overlap": 0.58}]}, "common 58 %"),
        ("by_markers", {"fits": [{"accepted": True, "markers": 9}, {"accepted": False}]}, "9 markers"),
        ("by_markers", {"fits": []}, "none placed"),
        ("leave_out", {"frames_in": 20, "frames": 24}, "20 of 24 frames in"),
        ("place_frames", {"passes": [{"rms_mm": 0.0312}, {"rms_mm": 0.04}]}, "0.031 mm · 0.040 mm"),
        ("settle", {"rms_before_mm": 0.05, "rms_mm": 0.031}, "0.050 mm → 0.031 mm"),
        ("stand_cut", {"passes": [{"points_before": 1_420_000, "points_after": 836_000}]}, "1.42 M → 836 k"),
        ("stand_up", {"size_mm": [61.8, 53.04, 91.6]}, "61.8 × 53.0 × 91.6"),
        ("lay_colour", {"seen_share": 0.97}, "seen 97 %"),
        (
            "lay_colour",
            {"texture": 2048, "texels_per_mm": 26.234, "seen_share": 0.98},
            "2048 texels, 26.2 per mm, seen 98 %",
        ),
        ("adjust_colour", {"adjust": {"white": None, "light": 0.2, "gamma": 1.0}}, "light"),
        ("heal_colour", {"area_mm2": 32.14, "texels": 900}, "32.1 mm² healed"),
        ("roughness", {"roughness": 0.35}, "0.35 for renderers"),
        ("set_scale", {"factor": 1.008064, "before_mm": 99.2, "after_mm": 100.0}, "99.20 → 100.00 mm, +0.81 %"),
        ("set_scale", {"factor": 25.4, "before_mm": None, "after_mm": None}, "× 25.4"),
        ("measure", {"name": "rim", "kind": "circle", "value": 41.2537}, "rim: ⌀ 41.25 mm"),
        ("measure", {"name": "lip", "kind": "angle", "value": 44.9}, "lip: 44.90°"),
        (
            "deviation",
            {"p95_mm": 0.0312, "against": "Take A", "within_share": 0.982},
            "95 % within 0.031 mm of Take A, 98.2 % in the band",
        ),
        ("accuracy", {"half_mm": 0.0123, "p95_mm": 0.0406}, "± 0.012 mm, 95 % of places ± 0.041 mm"),
        ("take_off_length", {"name": "rim", "left": 0}, "rim taken off"),
        ("lay_colour", {"texture": 0, "seen_share": 0.0, "why": "…"}, "no colour to lay"),
        ("take_away", {"passes": [{"points_before": 1_420_000, "points_after": 836_000}]}, "1.42 M → 836 k"),
        ("keep_only", {"passes": [{"points_before": 96_000, "points_after": 20_000}]}, "96 k → 20 k"),
        ("set_aside", {"passes": [{"marked": 12_000}, {"marked": 3_000}]}, "15 k set aside"),
        ("bring_back", {"passes": [{"points_before": 0, "points_after": 12_000}]}, "12 k back"),
        ("loose_pieces", {"pieces_gone": 3, "points_before": 96_000, "points_after": 95_000}, "3 gone, 96 k → 95 k"),
        ("trim_borders", {"points_before": 96_000, "points_after": 90_000}, "96 k → 90 k"),
        ("ghost_layers", {"found": [], "left": []}, "none"),
        ("ghost_layers", {"found": [{"frames": [3, 4], "apart_mm": 0.17}], "left": []}, "2 frames, 0.17 mm"),
        ("ghost_layers", {"found": [{"frames": [3], "apart_mm": 0.2}], "left": [{}]}, "1 frame, 0.20 mm, some left"),
        ("switch_passes", {"off": [], "lost_cm2": 0.0}, "all on"),
        ("switch_passes", {"off": ["tipped"], "lost_cm2": 12.44}, "1 off, 12.4 cm² less seen"),
        ("patch_holes", {"holes_closed": 12, "holes_left": 1}, "closed 12, left 1"),
        ("smooth", {"mean_mm": 0.0123, "most_mm": 0.05}, "moved 0.012 mm, at most 0.050 mm"),
        ("print_check", {"checks": [{"holds": False}, {"holds": True}], "ready": False}, "1 fault"),
        ("print_check", {"checks": [{"holds": True}], "ready": True}, "ready to print"),
        ("set_unit", {"passes": [{"unit": "m", "size_mm": 91.2}]}, "m: 91.2 mm"),
    ],
)
def test_headlines_say_the_figures_that_matter(name: str, report: dict, says: str) -> None:
    assert get_operation(name).headline_of(report).replace(THIN, " ") == says


def test_a_report_of_an_older_version_has_no_headline_and_breaks_nothing() -> None:
    assert {o.headline_of({}) for o in list_operations()} == {""}


def test_figures_read_as_on_the_page() -> None:
    # The same examples as in the front end's own test of its figures.
    assert [count(v).replace(THIN, " ") for v in (1_420_000, 300_000, 4_096)] == ["1.42 M", "300 k", "4 096"]
    assert mm(0.0312, 3) == f"0.031{THIN}mm" and percent(0.027) == f"2.7{THIN}%" and mm(None) == "–"


def test_steps_begin_and_end_in_order_and_finished_ones_are_left_out() -> None:
    steps = [RecipeStep("simplify", {"share": 0.5}), RecipeStep("remesh", {}), RecipeStep("simplify", {"share": 0.5})]
    begun, ended, fractions = [], [], []
    run_steps(
        ScanState((), mesh=uv_sphere(15.0, 24, 48)),
        steps,
        lambda f, _: fractions.append(f),
        lambda step, *_: ended.append(step.operation),
        lambda number, total, title: begun.append((number, total, title)),
        finished=1,
    )
    assert begun == [(2, 3, "Even out triangles"), (3, 3, "Simplify")] and ended == ["remesh", "simplify"]
    weights = [get_operation(s.operation).weight for s in steps]
    assert fractions[0] == pytest.approx(weights[0] / sum(weights)) and fractions == sorted(fractions)


def test_needs_are_named_in_order_and_before_anything_runs() -> None:
    fuse, close = get_operation("fuse"), get_operation("close")
    assert fuse.missing(ScanState()) is Need.PLACED and close.missing(ScanState()) is Need.VOLUME
    with pytest.raises(StepNotPossible, match="Find the fit first"):
        fuse.run(ScanState(), fuse.parameters(), silent)
    assert get_operation("simplify").missing(ScanState((), mesh=uv_sphere(5.0))) is None


@pytest.mark.parametrize("wrong", [{"stage": "polish"}, {"key": "U"}, {"weight": 0}, {"name": "fuse"}])
def test_an_operation_that_cannot_be_right_fails_when_it_is_imported(wrong: dict) -> None:
    facts = {"name": "varnish", "stage": "mend", "key": "ÄÖ", "weight": 1.0} | wrong
    with pytest.raises(TypeError, match="cannot be right"):
        operation(
            facts["name"], title="Varnish", stage=facts["stage"], key=facts["key"], weight=facts["weight"],
            needs=(), parameters=Parameters, headline=lambda r: "",
        )(lambda state, params, progress: (state, {}))  # fmt: skip
    assert "varnish" not in [o.name for o in list_operations()]
