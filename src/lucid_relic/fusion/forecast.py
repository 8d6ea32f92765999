"""What a fusion will give and cost: told from a coarse fusion of the same frames, before the real one starts."""

import time
from collections.abc import Callable
from dataclasses import dataclass
from math import log2
from typing import TypeVar

from lucid_relic.fusion.polygonise import polygonise_open
from lucid_relic.fusion.swallowed import find_swallowed
from lucid_relic.fusion.tsdf import forecast_bytes, fuse_volume
from lucid_relic.geometry.memory import available_bytes
from lucid_relic.geometry.spacing import pixel_spacing
from lucid_relic.memo import remembered
from lucid_relic.progress import Progress, silent
from lucid_relic.types import PassState, ScanState

T = TypeVar("T")
TRIAL_SPACINGS = 2.5  # pixel spacings of the trial's voxel: a sixteenth of the work, and still every feature of 1 cm
TRIANGLES_OF_AREA = 8.7  # triangles in a square as wide as a voxel: measured on four objects at three sizes, 8.4 to 8.9
BLOCKS_OF_AREA = 2.15  # blocks in a square as wide as one: measured likewise, 2.06 to 2.22
# What fusing takes besides its blocks, measured on three objects at four sizes: 288 to 300 bytes a triangle.
BYTES_OF_TRIANGLE, BYTES_BESIDES = 300, 6_000_000
FIXED_SHARE = 0.85  # of a trial's seconds of fusing go into reading frames, whatever the voxel
# Seconds of a triangle, in those it took in the trial: more the less of them fits the cache, and looking for what the
# surface swallowed takes some more. Measured likewise.
SECONDS_OF_FEW, FEW, MORE_AT_TWICE, LOOKING = 1.2, 300_000, 0.2, 0.4
TIMED = 2  # times that the trial's surface is made: the quicker one counts
FINEST_VOXELS = 2.0  # voxels from crest to crest of the finest relief that a grid holds (sampling theorem)


@dataclass(frozen=True)
class Trial:
    """A coarse fusion: the area it found (mm²), its voxel and triangles, and the seconds it took to fuse, to polygonise and to look at."""

    spacing_mm: float
    voxel_mm: float
    area_mm2: float
    triangles: int
    blocks: int
    fuse_s: float
    surface_s: float
    looking_s: float


@dataclass(frozen=True)
class FusionForecast:
    """Triangles, blocks, memory (bytes, and what is free), seconds, and the finest relief from crest to crest (mm)."""

    voxel_mm: float
    triangles: int
    blocks: int
    memory_bytes: int
    free_bytes: int
    seconds: float
    finest_mm: float


def forecast_fusion(state: ScanState, voxel_mm: float, progress: Progress = silent) -> FusionForecast:
    """What fusing the placed passes of a state at a voxel size will give; the trial is made once for a set of passes."""
    tried = trial(state, progress)
    triangles = TRIANGLES_OF_AREA * tried.area_mm2 / voxel_mm**2
    # Blocks over rims and edges grow with their length, those over the area with its square: the trial tells the first.
    over_rims = tried.blocks - _blocks_over(tried.area_mm2, tried.voxel_mm)
    blocks = _blocks_over(tried.area_mm2, voxel_mm) + over_rims * tried.voxel_mm / voxel_mm
    fuse = tried.fuse_s * (FIXED_SHARE + (1 - FIXED_SHARE) * blocks / max(tried.blocks, 1))
    of_one = tried.surface_s / max(tried.triangles, 1)
    surface = triangles * of_one * (SECONDS_OF_FEW + MORE_AT_TWICE * log2(max(triangles / FEW, 1)))
    looking = tried.looking_s + LOOKING * of_one * max(triangles - tried.triangles, 0)
    return FusionForecast(
        voxel_mm, round(triangles), round(blocks), fusing_bytes(round(blocks), round(triangles)), available_bytes(),
        fuse + surface + looking, FINEST_VOXELS * max(voxel_mm, tried.spacing_mm),
    )  # fmt: skip


def fusing_bytes(blocks: int, triangles: int) -> int:
    """Memory that fusing takes at the most, besides what is there before: its blocks, and its surface while it is made."""
    return forecast_bytes(blocks) + BYTES_OF_TRIANGLE * triangles + BYTES_BESIDES


def _blocks_over(area_mm2: float, voxel_mm: float) -> float:
    return BLOCKS_OF_AREA * area_mm2 / (8 * voxel_mm) ** 2


def trial(state: ScanState, progress: Progress = silent) -> Trial:
    """The coarse fusion of the placed passes of a state, kept as long as its passes are."""
    used = state.used_passes()
    key = ("trial", tuple(id(p) for p in used))
    # The passes it was made of are kept with it, so that no other pass can come to have their identity.
    made: tuple[Trial, tuple[PassState, ...]] = remembered(used[0], key, lambda: (_tried(state, progress), used[1:]))
    return made[0]


def _tried(state: ScanState, progress: Progress) -> Trial:
    spacing = min(pixel_spacing(p) for p in state.used_passes())
    voxel = TRIAL_SPACINGS * spacing
    volume, fuse_s = _timed(lambda: fuse_volume(state, voxel, progress))
    surfaces = [_timed(lambda: polygonise_open(volume)) for _ in range(TIMED)]
    mesh = surfaces[0][0]
    looks = [_timed(lambda: find_swallowed(state, mesh, voxel))[1] for _ in range(TIMED)]
    return Trial(
        spacing, voxel, mesh.area_mm2(), len(mesh.faces), len(volume.coords), fuse_s, min(s for _, s in surfaces), min(looks)
    )  # fmt: skip


def _timed(work: Callable[[], T]) -> tuple[T, float]:
    start = time.perf_counter()
    return work(), time.perf_counter() - start
