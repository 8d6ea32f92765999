"""What a fusion will give and cost: told from a coarse fusion of the same frames, before the real one starts."""

import time
from dataclasses import dataclass

from lucid_relic.fusion.polygonise import polygonise_open
from lucid_relic.fusion.swallowed import find_swallowed
from lucid_relic.fusion.tsdf import forecast_bytes, fuse_volume
from lucid_relic.geometry.memory import available_bytes
from lucid_relic.geometry.spacing import pixel_spacing
from lucid_relic.memo import remembered
from lucid_relic.progress import Progress, silent
from lucid_relic.types import PassState, ScanState

TRIAL_SPACINGS = 2.5  # pixel spacings of the trial's voxel: a sixteenth of the work, and still every feature of 1 cm
TRIANGLES_OF_AREA = 8.7  # triangles in a square as wide as a voxel: measured on four objects at three sizes, 8.4 to 8.9
BLOCKS_OF_AREA = 2.15  # blocks in a square as wide as one: measured likewise, 2.06 to 2.22
FIXED_SHARE = 0.85  # of a trial's seconds of fusing go into reading frames, whatever the voxel
MORE_OF_MANY = 1.3  # seconds a triangle takes of many, in those it takes of few: what does not fit the cache
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
    surface = tried.surface_s * MORE_OF_MANY * triangles / max(tried.triangles, 1)
    return FusionForecast(
        voxel_mm, round(triangles), round(blocks), forecast_bytes(round(blocks)), available_bytes(),
        fuse + surface + tried.looking_s * (TRIAL_SPACINGS * tried.spacing_mm / voxel_mm), FINEST_VOXELS * max(voxel_mm, tried.spacing_mm),
    )  # fmt: skip


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
    start = time.perf_counter()
    volume = fuse_volume(state, voxel, progress)
    fused = time.perf_counter()
    mesh = polygonise_open(volume)
    surfaced = time.perf_counter()
    find_swallowed(state, mesh, voxel)
    return Trial(
        spacing, voxel, mesh.area_mm2(), len(mesh.faces), len(volume.coords),
        fused - start, surfaced - fused, time.perf_counter() - surfaced,
    )  # fmt: skip
