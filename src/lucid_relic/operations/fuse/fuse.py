"""Fuse: one measured surface from all frames."""

from dataclasses import dataclass, replace
from typing import NotRequired, TypedDict

from lucid_relic.errors import StepNotPossible
from lucid_relic.fusion.forecast import forecast_fusion, fusing_bytes
from lucid_relic.fusion.polygonise import polygonise_open
from lucid_relic.fusion.swallowed import find_swallowed
from lucid_relic.fusion.tsdf import CHARACTERS, fuse_volume
from lucid_relic.inspection.mesh_check import boundary_loops
from lucid_relic.inspection.summary import FUSED_OF, OF_TAKE, SWALLOWED
from lucid_relic.operations.fuse.own_voxel import own_voxel, points_within, voxel_for
from lucid_relic.operations.fuse.take_names import with_take
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.preview import Preview
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.operations.words import count, mm
from lucid_relic.progress import Progress, part_of
from lucid_relic.types import HeldShape, ScanState


@dataclass(frozen=True, kw_only=True)
class FuseParameters(Parameters):
    voxel_mm: float = param(0.0, "Voxel size; 0 takes the spacing of the scanner's pixels", unit="mm", low=0, high=20)
    triangles: int = param(
        0, "A voxel, up to two pixels wide, fine enough for so many; 0 for the pixels' own", low=0, high=50_000_000
    )
    character: str = param("even", "Draft: a quick look; Even: smooth; Crisp: keeps edges", choices=tuple(CHARACTERS))
    take: str = param("", "A name for this take; left out, it gets the next letter")


class FuseReport(TypedDict):
    """The take it became, the voxel size used, blocks and memory, the surface that came of it, and places of swallowed detail.

    Where the voxel was chosen for a number of triangles: the pixels' spacing that would have been taken otherwise, and
    within how many mm of the surface 95 % of what some frames measured lies.
    """

    take: str
    voxel_mm: float
    blocks: int
    memory_forecast_gb: float
    triangles: int
    holes: int
    area_mm2: float
    swallowed: int
    spacing_mm: NotRequired[float]
    points_within_mm: NotRequired[float]


def _headline(report: Report) -> str:
    return f"{count(report['triangles'])} at {mm(report['voxel_mm'], 2)}"


def _chosen_voxel(measured: ScanState, params: FuseParameters) -> float:
    """The voxel size (mm) that parameters ask for."""
    if params.voxel_mm:
        return params.voxel_mm
    if params.triangles > 0 and params.character != "draft":
        return voxel_for(measured, params.triangles)
    return own_voxel(measured, params.character)


def _preview(state: ScanState, params: FuseParameters) -> Preview:
    """What comes of it, told from a coarse fusion that is made once."""
    measured = state.for_surface()
    told = forecast_fusion(measured, _chosen_voxel(measured, params))
    return Preview({
        "voxel_mm": told.voxel_mm,
        "triangles": told.triangles,
        "memory_gb": round(told.memory_bytes / 1e9, 3),
        "free_gb": round(told.free_bytes / 1e9, 1),
        "seconds": round(told.seconds, 1),
        "finest_mm": round(told.finest_mm, 3),
    })  # fmt: skip


@operation(
    "fuse",
    title="Fuse",
    stage="fuse",
    key="U",
    weight=6,
    needs=(Need.PLACED,),
    parameters=FuseParameters,
    headline=_headline,
    preview=_preview,
    preview_early=False,
)
def fuse(state: ScanState, params: FuseParameters, progress: Progress) -> tuple[ScanState, FuseReport]:
    """Fuse all frames to one measured surface, open where nothing was measured."""
    measured = state.for_surface()
    own = own_voxel(measured, params.character)
    chosen = params.triangles > 0 and params.voxel_mm == 0 and params.character != "draft"
    voxel = _chosen_voxel(measured, params)
    volume = fuse_volume(measured, voxel, part_of(progress, 0, 0.7), params.character)
    mesh = polygonise_open(volume, part_of(progress, 0.7, 0.9))
    if not len(mesh.faces):
        raise StepNotPossible(
            f"Fusing at {voxel:g} mm gave no surface. Choose a smaller voxel size or look at the passes."
        )
    of = [p.title for p in measured.used_passes()]
    lost = find_swallowed(measured, mesh, voxel, part_of(progress, 0.9, 1.0))
    swallowed = [
        {"at": place.at.round(2).tolist(), "off_mm": round(place.off_mm, 3), "wide_mm": round(place.wide_mm, 2)}
        for place in lost
    ]
    how = {
        "voxel_mm": voxel,
        "character": params.character,
        "passes": of,
        "triangles": len(mesh.faces),
        "area_mm2": mesh.area_mm2(),
        "swallowed": swallowed,
    }
    takes, name = with_take(state.takes, params.take, how, HeldShape(mesh, volume))
    notes = {**state.notes, FUSED_OF: of, SWALLOWED: swallowed, OF_TAKE: name}
    changed = replace(state, volume=volume, mesh=mesh, upright=False, notes=notes, takes=takes)
    report: FuseReport = {
        "take": name,
        "voxel_mm": voxel,
        "blocks": len(volume.coords),
        "memory_forecast_gb": round(fusing_bytes(len(volume.coords), len(mesh.faces)) / 1e9, 3),
        "triangles": len(mesh.faces),
        "holes": boundary_loops(mesh.faces),
        "area_mm2": mesh.area_mm2(),
        "swallowed": len(swallowed),
    }
    if chosen:
        report["spacing_mm"], report["points_within_mm"] = own, points_within(measured, mesh, own)
    return changed, report
