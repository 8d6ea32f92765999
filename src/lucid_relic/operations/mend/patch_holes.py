"""Close holes that one chooses, on meshes of any origin."""

from dataclasses import dataclass, replace
from typing import TypedDict

import numpy as np

from lucid_relic.colour.patched import in_vertex_colours, over_patches
from lucid_relic.errors import ParameterError, StepNotPossible
from lucid_relic.memo import remembered
from lucid_relic.mending.bridges import bridged
from lucid_relic.mending.rims import FLAT, Rim, close_rims, find_rims
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.preview import Preview, PreviewLayer
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.progress import Progress, silent
from lucid_relic.types import ScanState, TriangleMesh

TOLD = 200  # holes of a report, the longest


@dataclass(frozen=True, kw_only=True)
class PatchHolesParameters(Parameters):
    how: str = param("curved", "Go on as the surface around bends, or span it flat", choices=("curved", "flat"))
    under_mm: float = param(0.0, "Only holes smaller across; 0 takes all", unit="mm", low=0, high=10_000)
    bridges: tuple[tuple[float, float, float], ...] = param(
        (), "Strips laid across first, each from one place at a rim to another", kind="places"
    )
    leave: tuple[tuple[float, float, float], ...] = param(
        (), "The holes nearest to these places stay open", kind="places"
    )


class HoleTold(TypedDict):
    """A hole: its rim and its size across (mm), its area (mm²), whether its rim is flat, a place, and whether it was closed."""

    length_mm: float
    size_mm: float
    area_mm2: float
    flat: bool
    at: list[float]
    closed: bool


class PatchHolesReport(TypedDict):
    """How many were closed, how many left, how many could only be spanned flat, how many bridges were laid, and the holes
    as they were between them, the longest first."""

    holes_closed: int
    holes_left: int
    spanned_flat: int
    bridges: int
    holes: list[HoleTold]


def _headline(report: Report) -> str:
    return f"closed {report['holes_closed']}, left {report['holes_left']}"


@dataclass(frozen=True)
class _Patched:
    """The mesh with some holes closed, which rims there were, which of them were closed, and how many only flat."""

    mesh: TriangleMesh
    rims: list[Rim]
    wanted: np.ndarray
    flat: int


def _patched(before: TriangleMesh, params: PatchHolesParameters, progress: Progress) -> _Patched:
    if len(params.bridges) % 2:
        raise ParameterError("Every bridge needs two places: where it begins and where it ends.")
    spanned = bridged(in_vertex_colours(before), list(zip(params.bridges[::2], params.bridges[1::2], strict=True)))
    rims = remembered(spanned, "rims", lambda: find_rims(spanned))
    if not rims:
        raise StepNotPossible("The mesh has no hole: there is nothing to close.")
    wanted = _wanted(rims, params)
    if not wanted.any():
        raise StepNotPossible(
            f"Each of its {len(rims)} holes is to stay open. Take a larger size, or leave fewer of them."
        )
    chosen = [rim for rim, on in zip(rims, wanted, strict=True) if on]
    mesh, flat = close_rims(spanned, chosen, params.how == "flat", progress)
    return _Patched(mesh, rims, wanted, flat)


def _preview(state: ScanState, params: PatchHolesParameters) -> Preview:
    bare = remembered(state.mesh, "bare", lambda: replace(state.mesh.without_texture(), colours=None))
    done = _patched(bare, params, silent)
    fresh = np.arange(len(done.mesh.faces)) >= len(bare.faces)
    patches = done.mesh.select_faces(fresh)
    arrays = {"vertices": patches.vertices, "faces": patches.faces.astype(np.uint32)}
    figures = {"holes": int(done.wanted.sum()), "spanned_flat": done.flat, "area_mm2": round(patches.area_mm2(), 1)}
    return Preview(figures, (PreviewLayer("patch", {}, arrays),))


@operation(
    "patch_holes",
    title="Close chosen holes",
    stage="mend",
    key="Alt+0",
    weight=4,
    needs=(Need.MESH,),
    parameters=PatchHolesParameters,
    headline=_headline,
    preview=_preview,
    preview_early=False,
    preview_surface=True,
)
def patch_holes(
    state: ScanState, params: PatchHolesParameters, progress: Progress
) -> tuple[ScanState, PatchHolesReport]:
    """Close holes of the mesh as the surface around them bends, also of meshes that came in; those one names stay open."""
    before = state.mesh
    done = _patched(before, params, progress)
    holes: list[HoleTold] = [
        {
            "length_mm": round(rim.length_mm, 3),
            "size_mm": round(rim.size_mm, 3),
            "area_mm2": round(rim.area_mm2, 3),
            "flat": rim.bend < FLAT,
            "at": [round(float(v), 3) for v in rim.place],
            "closed": bool(on),
        }
        for rim, on in zip(done.rims, done.wanted, strict=True)
    ]
    return replace(state, mesh=over_patches(before, done.mesh)), {
        "holes_closed": int(done.wanted.sum()),
        "holes_left": int((~done.wanted).sum()),
        "spanned_flat": done.flat,
        "bridges": len(params.bridges) // 2,
        "holes": holes[:TOLD],
    }


def _wanted(rims: list[Rim], params: PatchHolesParameters) -> np.ndarray:
    """(k,) bool: which holes are closed."""
    wanted = np.array([not params.under_mm or rim.size_mm < params.under_mm for rim in rims])
    middles = np.stack([rim.place for rim in rims])
    for place in params.leave:
        wanted[int(np.argmin(np.linalg.norm(middles - np.array(place), axis=1)))] = False
    return wanted
