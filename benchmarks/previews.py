"""Previews: how long until the first and every later one, on two passes of 24 frames of 640×480 each."""

import time
from collections.abc import Callable

import numpy as np
from scanned import captured, npm_mesh

from lucid_relic.io.capture_folder import CaptureFolder
from lucid_relic.operations import get_operation
from lucid_relic.types import ScanState, View, ViewLine
from lucid_relic.view.packing import pack_preview
from lucid_relic.view.pass_view import PassView, know_view, pass_view

ROUNDS = 40


def _milliseconds(act: Callable[[], object]) -> float:
    started = time.perf_counter()
    act()
    return 1000 * (time.perf_counter() - started)


def previews() -> list[str]:
    """Time of the stand cut's preview, packed for the viewer, on a state that is held open."""
    made = captured("dragon", npm_mesh("dragon"))
    cut = get_operation("stand_cut")

    def shown(state: ScanState, **parameters: object) -> bytes:
        preview = cut.preview(state, cut.parameters(**parameters))
        return pack_preview(preview.figures, [(p.kind, p.facts, p.arrays) for p in preview.layers], {})

    warm = ScanState(tuple(CaptureFolder(f).as_pass() for f in made.folders))
    files = [pass_view(scan).packed() for scan in warm.passes]
    shown(warm)
    state = ScanState(tuple(CaptureFolder(f).as_pass() for f in made.folders))
    cold = [CaptureFolder(f).as_pass() for f in made.folders]
    gathered = _milliseconds(lambda: [pass_view(scan) for scan in cold])
    opening = _milliseconds(
        lambda: [know_view(s, PassView.unpacked(data)) for s, data in zip(state.passes, files, strict=True)]
    )
    plates = _milliseconds(lambda: shown(state))
    pose = [[1.0, 0, 0, 0], [0, 0, -1.0, 40], [0, 1.0, 0, 330], [0, 0, 0, 1.0]]
    view = View(tuple(map(tuple, pose)), 30.0, 725, 590)
    rng = np.random.default_rng(1)
    rows = [
        f"| points gathered from the frames (once, when a pass is first shown) | {gathered:.0f} | |",
        f"| {sum(len(pass_view(p)) for p in state.passes):,} points shown: opened from their file | {opening:.0f} | |",
        f"| plates found for the first time (at opening) | {plates:.0f} | |",
    ]
    titles = [p.title for p in state.passes]
    kinds: list[tuple[str, Callable[[], dict[str, object]]]] = [
        ("height moved", lambda: {"above_mm": float(rng.uniform(0.5, 20))}),
        ("planes pushed and tilted", lambda: {"planes": {t: [*rng.normal(size=3), 10.0] for t in titles}}),
        ("line drawn", lambda: {"line": ViewLine((100.0, float(rng.uniform(200, 500))), (600.0, 400.0), view)}),
    ]
    for name, parameters in kinds:
        times = [_milliseconds(lambda make=parameters: shown(state, **make())) for _ in range(ROUNDS)]
        rows.append(f"| {name} | {np.median(times):.0f} | {max(times):.0f} |")
    return [
        "## Previews of the stand cut",
        "",
        "Dragon, 2 × 24 frames of 640×480; packed for the viewer, on a state that the live service holds open. Wanted: 300 ms.",
        "",
        f"| what | median ms | worst of {ROUNDS} |",
        "|---|---|---|",
        *rows,
        "",
    ]
