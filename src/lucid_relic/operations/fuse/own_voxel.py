"""The voxel size that an object's passes ask for by themselves."""

from lucid_relic.geometry.spacing import pixel_spacing
from lucid_relic.types import ScanState

DRAFT_SPACINGS = 2.5  # pixel spacings of a draft's voxel: a sixteenth of the blocks, and still every feature of 1 cm


def own_voxel(state: ScanState, character: str) -> float:
    """The spacing (mm) of the finest pass's pixels, or a coarser one for a draft."""
    spacing = min(pixel_spacing(p) for p in state.used_passes())
    return round(spacing * (DRAFT_SPACINGS if character == "draft" else 1.0), 3)
