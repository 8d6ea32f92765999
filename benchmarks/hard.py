"""Hard conditions: noise, symmetry, knocks, thin handles; each a table over objects of several kinds."""

import time
from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace

import numpy as np
from hard_objects import KNOBBED, PLATES, TWOFOLD, knobbed, organic, plate, twofold
from scanned import AGREE_MM, CACHE, frames_off, judged_made_up, judged_surface, pass_off, whole_pass_off, written

from lucid_relic.capture.device import PlannedDevice
from lucid_relic.capture.hand import HandPlan, VirtualHandScanner
from lucid_relic.capture.model import ScanModel
from lucid_relic.capture.scene import ScanScene
from lucid_relic.capture.traits import ScannerTraits
from lucid_relic.capture.virtual import TurntablePlan, VirtualScanner
from lucid_relic.geometry.rigid import small_motion
from lucid_relic.inspection.mesh_check import check_mesh
from lucid_relic.io.capture_folder import CaptureFolder
from lucid_relic.operations import get_operation
from lucid_relic.operations.registry import Report
from lucid_relic.progress import silent
from lucid_relic.types import ScanState, Stop

Lines = list[str]
ORGANIC = ("dragon", "bunny", "camel", "fandisk", "elephant")
GENUS = {"bunny": 0, "camel": 0, "fandisk": 0, "elephant": 3}  # of the meshes; that of the dragon is not known
HANDLED = (
    "bunny",
    "camel",
    "fandisk",
    "elephant",
    "bull",
    "hand",
    "cactus",
    "joint",
    "spool",
    "handle",
    "dino",
    "knot1",
    "rotor",
)
SMALL = ScannerTraits(width=320, height=240, focal_px=432.0)
SHAKY = replace(SMALL, noise_mm=0.1)
TREMOR_MM = 2.0
TIPPED = TurntablePlan(stops=24, title="tipped", tip_deg=90.0)
FUSED = ("settle", "trim_fuzz", "fuse", "close", "largest_piece")


class KnockedScanner(VirtualScanner):
    """A scanner whose object stands off by `shift` (mm) at some of the stops; the truth knows nothing of it."""

    def __init__(
        self, model: ScanModel, plan: TurntablePlan, seed: int, stops: Iterable[int], shift: np.ndarray
    ) -> None:
        super().__init__(model, plan, SMALL, seed)
        self.knocked = {self._stops[i] for i in stops}
        self.shift = shift

    def _turned(self, stop: Stop, jitter_deg: float = 0.0) -> np.ndarray:
        pose = super()._turned(stop, jitter_deg)
        if stop in self.knocked:
            pose[:3, 3] -= self.shift
        return pose


class TremblingHand(VirtualHandScanner):
    """A head that a hand moves, off its stroke by some mm and by a degree from frame to frame."""

    def _path(self) -> np.ndarray:
        rng = np.random.default_rng([self.seed, 11])
        shakes = rng.normal(size=(self.plan.frames, 6)) * [*[np.radians(1.0)] * 3, *[TREMOR_MM] * 3]
        return np.stack([pose @ small_motion(shake) for pose, shake in zip(super()._path(), shakes, strict=True)])

    def without_plate(self) -> None:
        """The object floats, as held on a thin stand."""
        self.scene.plate_radius = 0.0

    @property
    def scene(self) -> ScanScene:
        return self._still.scene

    @property
    def T_plate_model(self) -> np.ndarray:
        return self._still.T_plate_model


def _opened(key: str, scanners: Sequence[PlannedDevice], coloured: bool = True) -> ScanState:
    folders = [written(CACHE / "hard" / key / str(n), scanner) for n, scanner in enumerate(scanners)]
    passes = [CaptureFolder(folder).as_pass() for folder in folders]
    return ScanState(tuple(p if coloured else replace(p, source=_Bare(p.source)) for p in passes))


class _Bare:
    """Frames without their photographs."""

    def __init__(self, source: CaptureFolder) -> None:
        self.source, self.key = source, f"{source.key} bare"
        self.depth = source.depth

    def colour(self, *where: object) -> None:
        return None


def _run(state: ScanState, *names: str) -> tuple[ScanState, dict[str, Report]]:
    reports = {}
    for name in names:
        step = get_operation(name)
        state, reports[name] = step.run(state, step.parameters(), silent)
    return state, reports


def _fused(state: ScanState) -> ScanState:
    for name in FUSED:
        step = get_operation(name)
        given = {"voxel_mm": 0.5} if name == "fuse" else {}
        state, _ = step.run(state, step.parameters(**given), silent)
    return state


def noise() -> Lines:
    """Pass 2 and surface error at three widths of noise, 2 × 24 stops of 640×480."""
    rows = []
    for name in ORGANIC:
        model = ScanModel.plain(organic(name))
        for sigma in (0.05, 0.15, 0.3):
            traits = ScannerTraits(noise_mm=sigma)
            scanners = [
                VirtualScanner(model, p, traits, 3 + n) for n, p in enumerate((TurntablePlan(stops=24), TIPPED))
            ]
            state, reports = _run(_opened(f"noise-{name}-{sigma}", scanners), "place_frames", "stand_cut", "find_fit")
            fit = reports["find_fit"]["fits"][0]
            if not fit["accepted"]:
                rows.append(f"| {name} | {sigma} | refused: {fit['reason']} | | | | |")
                continue
            state = _fused(state)
            turn, shift = pass_off(state, scanners, 1)
            error = judged_surface(state, scanners[0], model.mesh)
            genus = check_mesh(state.mesh, crossings=False).genus
            rows.append(
                f"| {name} | {sigma} | {turn:.3f} | {shift:.3f} | {error['mean_mm']:.3f} | {error['p95_mm']:.3f} "
                f"| {genus} ({GENUS.get(name, '?')}) |"
            )
    return rows


def surfaces() -> Lines:
    """What two frames saw, what was made up, and handles beside those of the mesh, 2 × 24 stops of 640×480."""
    rows = []
    for name in HANDLED:
        mesh = organic(name)
        plans = (TurntablePlan(stops=24), TIPPED)
        scanners = [
            VirtualScanner(ScanModel.plain(mesh), p, ScannerTraits(noise_mm=0.05), 3 + n) for n, p in enumerate(plans)
        ]
        state, reports = _run(_opened(f"noise-{name}-0.05", scanners), "place_frames", "stand_cut", "find_fit")
        true = check_mesh(mesh, crossings=False).genus
        if not state.passes[1].placed:
            rows.append(f"| {name} | refused: {reports['find_fit']['fits'][0]['reason']} | | | | | | | {true} |")
            continue
        state = _fused(state)
        seen, made_up = judged_surface(state, scanners[0], mesh), judged_made_up(state, scanners[0], mesh)
        rows.append(
            f"| {name} | {seen['mean_mm']:.3f} | {seen['p95_mm']:.3f} | {seen['p999_mm']:.2f} | {seen['measured_p999_mm']:.2f} "
            f"| {made_up['share']:.1%} "
            f"| {made_up['mean_mm']:.2f} | {check_mesh(state.mesh, crossings=False).genus} | {true} |"
        )
    return rows


def symmetry() -> Lines:
    """Shapes that nearly fit themselves, three passes of twelve stops, 320×240, with photographs and without."""
    kinds = [("knob or handle", n, knobbed) for n in KNOBBED] + [("half a turn", n, twofold) for n in TWOFOLD]
    kinds += [("plate of 3 mm", n, plate) for n in PLATES]
    rows = []
    for kind, name, make in kinds:
        plans = [TurntablePlan(stops=12), replace(TIPPED, stops=12)]
        if kind != "plate of 3 mm":
            plans.append(TurntablePlan(stops=12, title="over", tip_deg=180.0, tip_about_deg=40.0))
        model = make(name)
        scanners = [VirtualScanner(model, plan, SMALL, 10 + n) for n, plan in enumerate(plans)]
        for coloured in (True, False):
            state, reports = _run(
                _opened(f"{kind}-{name}", scanners, coloured), "place_frames", "stand_cut", "find_fit"
            )
            placed = [n for n, p in enumerate(state.passes) if p.placed and n]
            off = [pass_off(state, scanners, n) for n in placed]
            wrong = sum(turn > 1 or shift > 1 for turn, shift in off)
            worst = f"{max(t for t, _ in off):.2f} / {max(s for _, s in off):.3f}" if off else "–"
            by = "yes" if any(f["accepted"] and f["by_colour"] for f in reports["find_fit"]["fits"]) else "no"
            rows.append(
                f"| {kind} | {name} | {'yes' if coloured else 'no'} | {len(placed)} of {len(plans) - 1} | {wrong} | {worst} | {by} |"
            )
    return rows


def knocks() -> Lines:
    """An object shifted on its plate, for five of 24 stops or from one stop to the end, in both passes, 320×240."""
    rows = []
    for name in ("bunny", "fandisk", "elephant", "camel", "dragon"):
        model = ScanModel.plain(organic(name))
        for kind, size in (("not", 0.0), ("five stops", 0.3), ("five stops", 1.0), ("five stops", 5.0),
                           ("from one on", 0.3), ("from one on", 1.0), ("from one on", 5.0)):  # fmt: skip
            scanners: list[VirtualScanner] = []
            for n, plan in enumerate((TurntablePlan(stops=24), TIPPED)):
                rng = np.random.default_rng(n + 7)
                shift = np.append(rng.normal(size=2), 0.0)
                shift *= size / np.linalg.norm(shift)
                some = np.sort(rng.choice(np.arange(1, 24), 5, replace=False))
                stops = {"not": [], "five stops": some, "from one on": range(int(some[2]), 24)}[kind]
                scanners.append(KnockedScanner(model, plan, 3 + n, stops, shift))
            state, reports = _run(
                _opened(f"knock-{name}-{kind}-{size}", scanners), "place_frames", "stand_cut", "find_fit"
            )
            told = sum(len(p["knocked"]) for p in reports["place_frames"]["passes"])
            true = sum(len(s.knocked) for s in scanners if isinstance(s, KnockedScanner))
            if state.passes[1].placed:
                state = _fused(state)
                turn, shift_mm = pass_off(state, scanners, 1)
                error = judged_surface(state, scanners[0], model.mesh)
                figures = f"{turn:.3f} | {shift_mm:.3f} | {error['mean_mm']:.3f} | {error['p95_mm']:.3f}"
            else:
                figures = f"refused: {reports['find_fit']['fits'][0]['reason']} | | |"
            rows.append(f"| {name} | {kind} | {size:g} | {true} | {told} | {figures} |")
    return rows


def by_hand() -> Lines:
    """Two passes by hand without poses, one turn each, 320×240, noise 0.1 mm: with the plate in view, and without it."""
    rows = []
    for name in (*ORGANIC, "bull"):
        model = ScanModel.plain(organic(name))
        for frames, on_plate in ((60, False), (120, True)):
            scanners = [
                TremblingHand(
                    model, HandPlan(frames=frames, turns=1.0, tip_deg=tip, title=f"tip {tip:g}"), SHAKY, 3
                )
                for tip in (0.0, 90.0)
            ]  # fmt: skip
            if not on_plate:
                for scanner in scanners:
                    scanner.without_plate()
            state = _opened(f"hand-{name}-{frames}", scanners)
            begun = time.perf_counter()
            state, reports = _run(state, "place_frames")
            each = (time.perf_counter() - begun) / (2 * frames)
            lost, loose = (sum(len(p[k]) for p in reports["place_frames"]["passes"]) for k in ("left_out", "loose"))
            off = [frames_off(scan, scanner) for scan, scanner in zip(state.passes, scanners, strict=True)]
            state, reports = _run(state, "stand_cut", "find_fit")
            if not state.passes[1].placed:
                fit = f"refused: {reports['find_fit']['fits'][0]['reason']} | | |"
            else:
                state, _ = _run(state, "settle")
                off_by = *whole_pass_off(state, scanners, 1), *pass_off(state, scanners, 1)
                fit = "{:.3f} | {:.3f} | {:.3f} | {:.3f}".format(*off_by)
            worst, shift = (max(o[k] for o in off) for k in (0, 1))
            rows.append(
                f"| {name} | 2 × {frames} | {lost} | {loose} | {worst:.2f} | {shift:.2f} | {fit} | {1000 * each:.0f} |"
            )
    return rows


def _section(title: str, note: str, head: str, rows: Callable[[], Lines]) -> Callable[[], Lines]:
    """A section of docs/benchmarks.md that is one table."""
    return lambda: [f"## {title}", "", note, "", head, "|" + "---|" * (head.count("|") - 1), *rows(), ""]


SCANNED = "`dragon` and `bunny` from npm, `camel`, `fandisk`, `elephant`, `bull` from Debian's `libcgal-demo`, longest side 100 mm."
HARD = {
    "noise": _section(
        "Noise", f"{SCANNED} Surface error over what two frames saw (within {AGREE_MM:g} mm), at voxels of 0.5 mm.",
        "| object | noise mm | pass 2 off ° | off mm | mean mm | p95 mm | genus (true) |", noise,
    ),
    "surfaces": _section(
        "Surfaces", f"{SCANNED} The others are closed meshes of the same package. Two passes of 24 stops of 640×480, noise 0.05 mm, voxels of "
        f"0.5 mm. Seen: by two frames within {AGREE_MM:g} mm.",
        "| object | seen: mean mm | 95 % | 99.9 % | 99.9 % of what is not made up | made up | mean mm | handles | of the mesh |", surfaces,
    ),
    "symmetry": _section(
        "Symmetry", "Shapes by code.",
        "| kind | object | photographs | placed | wrong | worst off °/mm | by colour |", symmetry,
    ),
    "hand": _section(
        "By hand", f"{SCANNED} A head that trembles by {TREMOR_MM:g} mm and 1° from frame to frame, and no poses: one turn for each "
        "of two passes, 320×240, noise 0.1 mm. 60 frames without a plate in view, 120 with it. How far the frame that is farthest off "
        "lies from the first of its pass after placing frames, of how many it is told that they may lie loose, and how far pass 2 lies from pass 1 after settle: by the middle of all frames of each, "
        "and by their first ones, which err by themselves.",
        "| object | frames | lost | loose | worst frame ° | mm | pass 2 off ° | off mm | first frames ° | mm | ms a frame, with settling |", by_hand,
    ),
    "knocks": _section(
        "Knocked objects", SCANNED, "| object | knocked | mm | stops | told | pass 2 off ° | off mm | mean mm | p95 mm |", knocks,
    ),
}  # fmt: skip
