"""Passes by hand, live: rate and drift beside the reference's odometry, losses found again, slips noticed, gains forecast."""

import copy
import time
from dataclasses import dataclass, field, replace

import numpy as np
from hard_objects import painted_vase, plain
from measure import resident_mb

from lucid_relic.alignment.settle import settle
from lucid_relic.capture.instruments import INSTRUMENTS
from lucid_relic.capture.model import ScanModel
from lucid_relic.capture.steered import HeadPlace, SteeredHead
from lucid_relic.capture.traits import ScannerTraits
from lucid_relic.capture.virtual import TurntablePlan
from lucid_relic.demo.objects import demo_model
from lucid_relic.desk.hand_desk import HandDesk
from lucid_relic.geometry.rigid import difference, inverse
from lucid_relic.planning.coverage import ENOUGH
from lucid_relic.progress import silent
from lucid_relic.tracking.live_pass import LivePass
from lucid_relic.tracking.quick_view import quick_frame
from lucid_relic.types import Camera, Part, PassState

Lines = list[str]
FRAMES, LOSSES, SLIPS, SUGGESTIONS = 120, 50, 60, 30
TRAY_MM, DOTS = 25.0, 16  # of the tray around the object that is kept in view, and markers on it
REFERENCE_FRAMES = 16  # 45° of the turn: on the processor it takes seconds a frame
MANY_FRAMES, AROUND = 20_000, 240  # of which so many are different
RIGHT_MM, RIGHT_DEG = 2.0, 3.0  # nearer to the truth a found frame is right
SIZES = {(320, 240): 280.0, (640, 480): 560.0}


def model_of(name: str) -> ScanModel:
    """An object of the exhibition, or a scanned one."""
    if name == "vase":
        return painted_vase()
    return demo_model(name) if name in ("owl", "bell", "stamp") else plain(name)


def head_of(model: ScanModel, size: tuple[int, int], noise_mm: float, seed: int, dots: int = 0) -> SteeredHead:
    """The hand head, as near as the object allows; dots of them on the tray, which then is in view too."""
    reach = float(np.linalg.norm(np.ptp(model.mesh.vertices, axis=0))) / 2 + (TRAY_MM if dots else 0.0)
    near = max(1.7 * reach, 90.0)
    traits = ScannerTraits(
        width=size[0], height=size[1], focal_px=SIZES[size], standoff_mm=near + reach, band_mm=(0.5 * near, 900.0),
        depth_unit_mm=0.02, noise_mm=noise_mm, grazing_deg=74.0,
    )  # fmt: skip
    return SteeredHead(model, lambda _: None, traits, TurntablePlan(title="by hand", dots=dots), seed)


@dataclass
class Sweep:
    """Frames of a head with their truth, and the live pass over them; a `FrameSource` as well."""

    head: SteeredHead
    by_markers: bool = False
    key: str = "sweep"
    taken: list[tuple[np.ndarray, np.ndarray]] = field(default_factory=list)
    truth: list[np.ndarray] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.live = LivePass(self.head.camera, lambda i: self.taken[i], by_markers=self.by_markers)
        self.seconds: list[float] = []

    def see(self, around_deg: float, up_deg: float, covered: bool = False) -> int:
        place = HeadPlace(around_deg=around_deg, up_deg=up_deg, away_mm=self.head.distance_mm, covered=covered)
        index = len(self.taken)
        shot = self.head.shoot(place, index)
        self.taken.append((shot.depth, shot.colour))
        self.truth.append(self.head.truth_pose(place, index))
        return index

    def follow(self, index: int):
        began = time.perf_counter()
        said = self.live.push(index, *self.taken[index])
        self.seconds.append(time.perf_counter() - began)
        return said

    def turn(self, frames: int = FRAMES) -> list[int]:
        """A full turn, rising and falling."""
        return [self.see(360.0 * k / frames, 28 + 12 * np.sin(2 * np.pi * k / frames)) for k in range(frames)]

    def copied(self) -> "Sweep":
        other = copy.copy(self)
        other.taken, other.truth, other.live = list(self.taken), list(self.truth), copy.deepcopy(self.live)
        other.live._recall = lambda i: other.taken[i]
        other.live._way._ready = lambda i: quick_frame(i, *other.taken[i], other.head.camera)
        return other

    def off(self, pose: np.ndarray, index: int, first: int = 0) -> tuple[float, float]:
        """How far a pose is off the truth: mm at the object's middle, degrees."""
        wanted = inverse(self.truth[first]) @ self.truth[index]
        away = np.array([0, 0, self.head.distance_mm])
        gap = (inverse(wanted) @ pose)[:3]
        return float(np.linalg.norm(gap[:, :3] @ away + gap[:, 3] - away)), difference(wanted, pose)[0]

    def depth(self, index: int, part: Part | None = None) -> np.ndarray:
        return self.taken[index][0] if part is None else np.ascontiguousarray(self.taken[index][0][part])

    def colour(self, index: int, part: Part | None = None) -> np.ndarray:
        return self.taken[index][1] if part is None else np.ascontiguousarray(self.taken[index][1][part])

    def as_pass(self) -> PassState:
        n = len(self.taken)
        poses = np.stack([self.live.poses.get(i, np.eye(4)) for i in range(n)])
        inside = np.array([i in self.live.poses for i in range(n)])
        by = "markers" if self.by_markers else "shape"
        return PassState(
            "by hand", self, self.head.camera, poses, inside, np.full(n, np.nan, np.float32), True, by, placed=True
        )


def rate() -> Lines:
    """Frames a second, frames held and the drift at the end of a turn, before and after settling."""
    out = []
    for size in SIZES:
        for name in ("owl", "stamp", "bell", "dragon"):
            sweep = Sweep(head_of(model_of(name), size, 0.06, 3))
            index = sweep.turn()
            followed = [sweep.follow(i) for i in index]
            last = max(sweep.live.poses)
            live = sweep.off(sweep.live.poses[last], last)
            sweep.live.finish()
            settled = settle((sweep.as_pass(),), silent).passes[0]
            after = sweep.off(inverse(settled.frame_poses[0]) @ settled.frame_poses[last], last)
            reference = _reference(sweep, index[:REFERENCE_FRAMES])
            fps = 1 / np.mean(sweep.seconds[3:])
            alone = _without_fusing(sweep, sorted(sweep.live.poses))
            out.append(
                f"| {name} | {size[0]}×{size[1]} | {sum(f.placed for f in followed)} of {FRAMES} | {fps:.1f} | {alone:.1f} | "
                f"{live[0]:.3f}, {live[1]:.2f} | {after[0]:.3f}, {after[1]:.2f} | {reference} |"
            )
    return out


def _without_fusing(sweep: Sweep, index: list[int]) -> float:
    """Frames a second that are only laid onto the finished model."""
    began = time.perf_counter()
    for i in index:
        sweep.live.model.laid(quick_frame(i, *sweep.taken[i], sweep.head.camera), sweep.live.poses[i])
    return len(index) / (time.perf_counter() - began)


def _reference(sweep: Sweep, index: list[int]) -> str:
    """Frames a second and drift of Open3D's frame-to-model odometry (its dense SLAM pipeline) on the same frames."""
    import open3d as o3d
    import open3d.core as o3c

    o3d.utility.set_verbosity_level(o3d.utility.VerbosityLevel.Error)
    camera, slam = sweep.head.camera, o3d.t.pipelines.slam
    K = o3c.Tensor([[camera.fx, 0, camera.cx], [0, camera.fy, camera.cy], [0, 0, 1]], o3c.float64)
    voxel = sweep.head.distance_mm / camera.fx / 1000
    model = slam.Model(voxel, 16, 20_000, o3c.Tensor(np.eye(4)), o3c.Device("CPU:0"))
    input_frame = slam.Frame(camera.height, camera.width, K, o3c.Device("CPU:0"))
    raycast = slam.Frame(camera.height, camera.width, K, o3c.Device("CPU:0"))
    pose, seconds, lost = np.eye(4), [], 0
    for k, i in enumerate(index):
        depth, colour = sweep.taken[i]
        began = time.perf_counter()
        input_frame.set_data_from_image("depth", o3d.t.geometry.Image(o3c.Tensor((depth * 10).astype(np.uint16))))
        input_frame.set_data_from_image("color", o3d.t.geometry.Image(o3c.Tensor(colour)))
        try:
            if k:
                result = model.track_frame_to_model(input_frame, raycast, 10_000.0, 3.0, 0.07)
                pose = pose @ result.transformation.numpy()
            model.update_frame_pose(k, o3c.Tensor(pose))
            model.integrate(input_frame, 10_000.0, 3.0, 8.0)
            model.synthesize_model_frame(raycast, 10_000.0, 0.05, 3.0, 8.0, False)
        except RuntimeError:
            lost += 1
        seconds.append(time.perf_counter() - began)
    metric = pose.copy()
    metric[:3, 3] *= 1000
    off = sweep.off(metric, index[-1])
    return f"{1 / np.mean(seconds[3:]):.1f} | {off[0]:.2f}, {off[1]:.2f}{f' ({lost} failed)' if lost else ''}"


def unknown() -> Lines:
    """Scanned objects that nothing was tuned on: 120 frames 3° apart, noise 0.1 mm."""
    out = []
    for name in ("bunny", "camel", "fandisk", "elephant", "dragon"):
        sweep = Sweep(head_of(model_of(name), (320, 240), 0.1, 5))
        followed = [sweep.follow(i) for i in sweep.turn()]
        off = [sweep.off(pose, i) for i, pose in sweep.live.poses.items()]
        worst = np.max(off, axis=0)
        out.append(
            f"| {name} | {sum(f.placed for f in followed)} of {FRAMES} | {len(sweep.live.slips)} | {worst[0]:.2f}, {worst[1]:.2f} |"
        )
    return out


def losses() -> Lines:
    """A leap of 10-40°, a covered lens, or frames too far apart; then the head is held at a place it was before."""
    out = []
    for name in ("owl", "stamp", "bell", "dragon"):
        rng = np.random.default_rng(5)
        base = Sweep(head_of(model_of(name), (320, 240), 0.06, 3))
        way = [(3.0 * k, 28 + 14 * np.sin(k / 12)) for k in range(60)]
        for place in way:
            base.follow(base.see(*place))
        found, wrong, lookups = 0, 0, []
        for trial in range(LOSSES):
            sweep = base.copied()
            at, up = way[-1]
            for _ in range(4):
                if trial % 3 == 1:
                    sweep.follow(sweep.see(at, up, covered=True))
                elif trial % 3 == 2:
                    at, up = at + rng.choice([-1, 1]) * rng.uniform(15, 40), up + rng.uniform(-5, 5)
                    wrong += _wrong(sweep, sweep.see(at, up))
            home = way[rng.integers(5, 55)] if trial % 3 else (way[-1][0] - rng.uniform(10, 40), way[-1][1])
            right = False
            for _ in range(7):
                index = sweep.see(home[0] + rng.normal() * 0.2, home[1] + rng.normal() * 0.2)
                bad = _wrong(sweep, index)
                lookups.append(sweep.seconds[-1])
                wrong += bad
                right |= not bad and index in sweep.live.poses
            found += right
        out.append(f"| {name} | {LOSSES} | {found} | {wrong} | {1000 * np.median(lookups):.0f} |")
    return out


def _wrong(sweep: Sweep, index: int) -> int:
    """Follow a frame; 1 when it was placed where it is not."""
    said = sweep.follow(index)
    if not said.placed:
        return 0
    off = sweep.off(said.pose, index)
    return int(off[0] > RIGHT_MM or off[1] > RIGHT_DEG)


def slips() -> Lines:
    """A head that leaps about the axis of a painted vase: noticed when put right, or left out, at once."""
    rng = np.random.default_rng(1)
    base = Sweep(head_of(model_of("vase"), (320, 240), 0.06, 3))
    for k in range(40):
        base.follow(base.see(3.0 * k, 28 + 8 * np.sin(k / 12)))
    noticed, believed = 0, 0
    for _ in range(SLIPS):
        sweep = base.copied()
        leap = rng.choice([-1, 1]) * rng.uniform(12, 60)
        index = sweep.see(117 + leap, 25)
        said = sweep.follow(index)
        before = base.off(base.live.poses[39], 39)[1]
        right = said.placed and sweep.off(said.pose, index)[1] < before + 4.0
        noticed += right or not said.placed
        believed += said.placed and not right
    return [f"| painted vase | {SLIPS} | {noticed} | {believed} |"]


def markers() -> Lines:
    """Bodies of revolution on a tray with markers: the same frames followed by shape and by markers."""
    out = []
    for name, model in (("bell", model_of("bell")), ("vase without paint", painted_vase().matted())):
        for by_markers in (False, True):
            sweep = Sweep(head_of(model, (320, 240), 0.06, 3, DOTS), by_markers)
            followed = [sweep.follow(i) for i in sweep.turn()]
            off = {i: sweep.off(pose, i) for i, pose in sweep.live.poses.items()}
            wrong = sum(o[0] > RIGHT_MM or o[1] > RIGHT_DEG for o in off.values())
            last = max(off)
            sweep.live.finish()
            settled = settle((sweep.as_pass(),), silent).passes[0]
            own, after = (
                sweep.off(sweep.live.poses[last], last),
                sweep.off(inverse(settled.frame_poses[0]) @ settled.frame_poses[last], last),
            )
            told = int(np.median([f.dots for f in followed])) if by_markers else 0
            out.append(
                f"| {name} | {'markers' if by_markers else 'shape'} | {len(off)} of {FRAMES} | {wrong} | {told or '–'} | "
                f"{off[last][0]:.3f}, {off[last][1]:.2f} | {own[0]:.3f}, {own[1]:.2f} | {after[0]:.3f}, {after[1]:.2f} | "
                f"{1 / np.mean(sweep.seconds[3:]):.1f} |"
            )
    return out


def gains() -> Lines:
    """What a suggested move was said to gain, and what came when the head was held there for a second."""
    told, came = [], []
    for name in ("owl", "stamp", "bell", "dragon"):
        sweep = Sweep(head_of(model_of(name), (320, 240), 0.06, 3))
        sheet = _sheet_of(sweep)
        desk = HandDesk(sheet, lambda i, s=sweep: s.taken[i], ENOUGH["print"])
        around, up = 0.0, 28.0
        for k in range(24):
            desk.take(sweep.see(3.0 * k, up), *sweep.taken[-1])
            around = 3.0 * k
        for _ in range(min(SUGGESTIONS // 3, SUGGESTIONS - len(told))):
            if not desk.nexts:
                break
            best, before = desk.nexts[0], desk.enough
            steps = max(int(np.ceil(max(abs(best.left_deg), abs(best.up_deg)) / 3.0)), 1)
            for _ in range(steps):
                around, up = around - best.left_deg / steps, up + best.up_deg / steps
                desk.take(sweep.see(around, up), *sweep.taken[-1])
            for _ in range(16):
                desk.take(sweep.see(around, up), *sweep.taken[-1])
            told.append(best.gain)
            came.append(desk.enough - before)
    off = np.abs(np.array(told) - np.array(came))
    return [
        f"| {len(told)} | {100 * np.median(off):.1f} | {100 * np.percentile(off, 90):.1f} | {int((off <= 0.1).sum())} of {len(told)} |"
    ]


def endless() -> Lines:
    """Very many frames at the desk, round and round the same object: what the process holds, and how fast it is at the end."""
    sweep = Sweep(head_of(model_of("owl"), (320, 240), 0.06, 3))
    sweep.turn(AROUND)
    desk = HandDesk(_sheet_of(sweep), lambda i: sweep.taken[i % AROUND], ENOUGH["print"])
    out, began = [], time.perf_counter()
    for index in range(MANY_FRAMES):
        desk.take(index, *sweep.taken[index % AROUND])
        desk.figures(15.0)
        if (index + 1) % (MANY_FRAMES // 5) == 0:
            seconds = time.perf_counter() - began
            out.append(
                f"| {index + 1} | {desk.counts['in']} | {len(desk.live.places)} | {resident_mb():.0f} | {MANY_FRAMES // 5 / seconds:.1f} |"
            )
            began = time.perf_counter()
    return out


def _sheet_of(sweep: Sweep):
    camera: Camera = sweep.head.camera
    return replace(INSTRUMENTS["hand"], camera=camera, standoff_mm=sweep.head.distance_mm, band_mm=(60.0, 900.0))


def live() -> Lines:
    """All of it."""
    tables = (
        ("A turn by hand of 120 frames, fused as they come; off the truth at the end of the turn, at the object: mm, °. Beside it "
         "Open3D’s frame-to-model odometry with integration and ray casting on the first 16 of the same frames, on the processor, off at their end.",
         "| object | pixels | held | frames/s | without fusing | off, live | off, settled | reference frames/s | off |", rate),
        ("Scanned objects that nothing was tuned on, 320×240, noise 0.1 mm, 120 frames 3° apart, the worst frame.",
         "| object | held | slips reported | off, worst frame |", unknown),
        ("Losses: a leap, a covered lens, frames too far apart; then held still for half a second where it was before.",
         "| object | losses | found again | wrongly | median ms a frame meanwhile |", losses),
        ("Leaps about the axis of a body that only its paint tells round.", "| object | leaps | noticed | believed |", slips),
        ("Bodies of revolution on a tray with 16 markers, the same frames followed by shape and by markers; off at the end of the turn, at the object: mm, °.",
         "| object | held by | held | wrongly | markers in view | off, live | off, finished | off, settled | frames/s |", markers),
        (f"A pass that does not end: {MANY_FRAMES} frames at the desk, owl, 320×240, with all that it judges and tells.",
         "| frames | held | places | memory of the process, MB | frames/s since the line above |", endless),
        ("Suggested moves: forecast of the gain against what came, in points of what can be reached.",
         "| suggestions | median off | 90 % within | within 10 points |", gains),
    )  # fmt: skip
    out: Lines = ["## By hand, live", ""]
    for note, head, rows in tables:
        out += [note, "", head, "|" + "---|" * (head.count("|") - 1), *rows(), ""]
    return out
