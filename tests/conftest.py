"""Fixtures for all tests."""

import os
from pathlib import Path

import pytest


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """What takes longest comes first, so that both processes end at about the same time: each takes whole files in turn."""
    order = [
        "browser/test_by_hand",
        "browser/test_setting_up",
        "browser",
        "server/test_run_sheet",
        "server/test_security",
        "server/test_attack",
        "server/test_worker",
        "server/test_access",
        "server/test_api",
        "server",
        "cli/",
        "core/test_stand_cut",
        "core/test_pipeline",
    ]
    rank = lambda item: next((n for n, part in enumerate(order) if part in item.path.as_posix()), len(order))  # noqa: E731
    items.sort(key=rank)


@pytest.fixture(scope="session")
def django_db_setup(django_db_setup):
    """Child processes use the test database too."""
    from django.db import connection

    os.environ["LUCID_RELIC_TEST_DATABASE"] = str(connection.settings_dict["NAME"])


@pytest.fixture(scope="session")
def captures(tmp_path_factory: pytest.TempPathFactory):
    """(upright folder, tipped folder, scanner of each) of the lump; read-only."""
    from scenes import two_passes

    return two_passes(tmp_path_factory.mktemp("captures"))


@pytest.fixture(scope="session")
def processed(captures, tmp_path_factory: pytest.TempPathFactory):
    """The print recipe run once over the lump: (state, steps, out folder)."""
    from lucid_relic.io.capture_folder import CaptureFolder
    from lucid_relic.operations.recipe import built_in, run_recipe
    from lucid_relic.progress import silent
    from lucid_relic.types import ScanState

    recipe = built_in("print").with_parameter("fuse", "voxel_mm", 1.0)
    recipe = recipe.with_parameter("simplify", "triangles", 20_000).with_parameter("lay_colour", "size", 512)
    state = ScanState(tuple(CaptureFolder(p).as_pass() for p in captures[:2]))
    steps = []
    state = run_recipe(state, recipe, silent, lambda step, s, report, t: steps.append((step, s, report)))
    return state, steps


@pytest.fixture(scope="session")
def zipped(captures, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The upright capture as a .zip."""
    import shutil

    base = tmp_path_factory.mktemp("zip") / "upright"
    return Path(shutil.make_archive(str(base), "zip", captures[0]))


@pytest.fixture(scope="session")
def painted_vase(tmp_path_factory: pytest.TempPathFactory):
    """Two passes of a painted body of revolution after find fit, and a judge of how far the second is turned off (°)."""
    from dataclasses import replace

    import numpy as np
    from scenes import TurntablePlan, vase_model, write_capture

    from lucid_relic.geometry.rigid import difference, inverse
    from lucid_relic.io.capture_folder import CaptureFolder
    from lucid_relic.operations import get_operation
    from lucid_relic.progress import silent
    from lucid_relic.types import ScanState

    root = tmp_path_factory.mktemp("vase")
    plans = (
        TurntablePlan(stops=12, elevation_deg=30),
        TurntablePlan(stops=12, elevation_deg=30, tip_deg=100.0, start_deg=47.0, title="tipped"),
    )
    model = vase_model()
    scanners = [write_capture(root / plan.title, model, plan, seed=n + 1) for n, plan in enumerate(plans)]
    state = ScanState(tuple(CaptureFolder(root / plan.title).as_pass() for plan in plans))
    for name in ("place_frames", "stand_cut", "find_fit"):
        step = get_operation(name)
        state, report = step.run(state, step.parameters(), silent)
    state = replace(state, notes={**state.notes, "fit": report["fits"][0]})

    def turn_of(judged: ScanState) -> float:
        a, b = judged.passes
        T_model_object = scanners[0].truth_poses()[0] @ inverse(a.T_object_camera(0))
        off = T_model_object @ b.T_object_camera(0) @ inverse(scanners[1].truth_poses()[0])
        return difference(off, np.eye(4))[0]

    return state, turn_of
