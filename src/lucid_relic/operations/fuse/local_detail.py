"""Local detail: a marked place of the surface fused finer than the rest."""

from dataclasses import dataclass, replace
from typing import TypedDict

import numpy as np
from scipy.spatial import cKDTree

from lucid_relic.errors import StepNotPossible
from lucid_relic.fusion.local_detail import with_local_detail
from lucid_relic.fusion.polygonise import polygonise_open
from lucid_relic.fusion.tsdf import fuse_volume
from lucid_relic.geometry.masks import pixels_where
from lucid_relic.mending.untangle import untangled
from lucid_relic.operations.chosen import marked_of
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.operations.words import change
from lucid_relic.progress import Progress, part_of
from lucid_relic.types import Marks, ScanState, TriangleMesh

NEAR_VOXELS = 4.0  # coarse voxels around the place whose pixels the finer fusion asks
HALVINGS = {"half": 1, "quarter": 2}


@dataclass(frozen=True, kw_only=True)
class LocalDetailParameters(Parameters):
    marks: Marks = param(Marks(), "Which part of the surface", kind="marks")
    voxel: str = param("half", "Half or a quarter of the voxel size of the rest", choices=tuple(HALVINGS))
    character: str = param("crisp", "Even: smooth; Crisp: keeps edges", choices=("even", "crisp"))


class LocalDetailReport(TypedDict):
    """The finer voxel size (mm), how much of the surface it covers (mm²), and triangles before and after."""

    voxel_mm: float
    area_mm2: float
    triangles_before: int
    triangles: int


def _headline(report: Report) -> str:
    return f"{change(report['triangles_before'], report['triangles'])} at {report['voxel_mm']:.2f} mm"


@operation(
    "local_detail",
    title="Local detail",
    stage="fuse",
    key="Shift+D",
    weight=6,
    needs=(Need.MESH, Need.VOLUME, Need.PLACED),
    parameters=LocalDetailParameters,
    headline=_headline,
)
def local_detail(
    state: ScanState, params: LocalDetailParameters, progress: Progress
) -> tuple[ScanState, LocalDetailReport]:
    """Fuse a marked part of the surface at a half or a quarter of the voxel size, joined to the rest without a crack."""
    coarse = state.volume.voxel_mm
    chosen = marked_of(state.mesh, params.marks)
    before = len(state.mesh.faces)
    area = float(np.linalg.norm(state.mesh.face_normals()[chosen], axis=1).sum() / 2)
    near = _near(state, state.mesh, chosen, NEAR_VOXELS * coarse, part_of(progress, 0.0, 0.2))
    halvings = HALVINGS[params.voxel]
    voxel = coarse / 2**halvings
    field = fuse_volume(near, voxel, part_of(progress, 0.2, 0.7), params.character)
    fine = polygonise_open(field, part_of(progress, 0.7, 0.8))
    mesh, _ = with_local_detail(state.mesh, chosen, fine, coarse, halvings, part_of(progress, 0.8, 0.9))
    progress(0.9, "Looking for crossings")
    mesh, _ = untangled(mesh)
    return replace(state, mesh=mesh), {
        "voxel_mm": voxel,
        "area_mm2": area,
        "triangles_before": before,
        "triangles": len(mesh.faces),
    }


def _near(state: ScanState, mesh: TriangleMesh, chosen: np.ndarray, reach_mm: float, progress: Progress) -> ScanState:
    """The state with only those pixels kept that lie near the chosen triangles; raises when no frame saw the place."""
    tree = cKDTree(mesh.face_centres()[chosen])
    asks = lambda places, _: np.isfinite(tree.query(places, distance_upper_bound=reach_mm, workers=-1)[0])  # noqa: E731
    measured = state.for_surface()
    found = 0
    for n, scan in enumerate(measured.passes):
        if not scan.placed or scan.off:
            continue
        mask = pixels_where(scan, asks, "Looking for what saw it in", progress)
        found += mask.chosen
        used = scan.frame_in & mask.bits.any(axis=1) if scan.cloud is None else scan.frame_in
        measured = measured.with_pass(n, replace(scan, keep=mask.bits, frame_in=used))
    if not found:
        raise StepNotPossible("No frame measured anything there: it is made up, and has no finer detail.")
    return measured
