"""Lay colour: the photographs as a texture."""

from dataclasses import asdict, dataclass, replace
from typing import Any, NotRequired, TypedDict

from lucid_relic.colour.lay import NO_COLOUR, has_colour
from lucid_relic.colour.lay import lay_colour as lay
from lucid_relic.inspection.summary import STRANGE
from lucid_relic.operations.chosen import check_title, chosen_passes
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.operations.words import percent
from lucid_relic.progress import Progress
from lucid_relic.types import ScanState


@dataclass(frozen=True, kw_only=True)
class LayColourParameters(Parameters):
    size: int = param(
        2048, "Side of the square texture; 0 takes one that keeps what the photographs resolve", unit="texels",
        low=0, high=8192,
    )  # fmt: skip
    passes: tuple[str, ...] | None = param(None, "Only these passes; all when left out", kind="passes")
    without: tuple[tuple[str, int], ...] = param((), "Photographs that are not used", kind="photographs")
    need_colour: bool = param(False, "Fail when no pass has colour, instead of leaving the mesh plain")


class LayColourReport(TypedDict):
    """Side of the texture in texels (0: none), the share of it that a photograph or a coloured point saw, texels per mm,
    photographs used, how many of them were left out in places, and the area (mm²) of those by what is wrong there; else
    why there is no texture."""

    texture: int
    seen_share: float
    texels_per_mm: NotRequired[float]
    photographs: NotRequired[int]
    touched: NotRequired[int]
    glare_mm2: NotRequired[float]
    shadow_mm2: NotRequired[float]
    why: NotRequired[str]


def _headline(report: Report) -> str:
    if report.get("texture") == 0:
        return "no colour to lay"
    seen = f"seen {percent(report['seen_share'], 0)}"
    if "texels_per_mm" not in report:
        return seen
    return f"{report['texture']} texels, {report['texels_per_mm']:.3g} per mm, {seen}"


@operation(
    "lay_colour",
    title="Lay colour",
    stage="colour",
    key="O",
    weight=20,
    needs=(Need.MESH,),
    parameters=LayColourParameters,
    headline=_headline,
)
def lay_colour(state: ScanState, params: LayColourParameters, progress: Progress) -> tuple[ScanState, LayColourReport]:
    """Lay the photographs of the placed passes, and the colours of points, onto the mesh as a texture."""
    for title, _ in params.without:
        check_title(state, title)
    chosen = set(chosen_passes(state, params.passes))
    asked = replace(state, passes=tuple(p for n, p in enumerate(state.passes) if n in chosen))
    if not params.need_colour and not has_colour(asked):
        return state, {"texture": 0, "seen_share": 0.0, "why": NO_COLOUR}
    laid = lay(asked.for_surface(), state.mesh, params.size, progress, frozenset(params.without))
    strange: list[dict[str, Any]] = [asdict(place) | {"at": list(place.at)} for place in laid.strange]
    area = lambda kind: round(sum(p["area_mm2"] for p in strange if p["kind"] == kind), 2)  # noqa: E731
    return replace(state, mesh=laid.mesh, notes={**state.notes, STRANGE: strange}), {
        "texture": len(laid.mesh.texture.image),
        "seen_share": laid.mesh.texture.seen,
        "texels_per_mm": round(laid.texels_per_mm, 3),
        "photographs": laid.photographs,
        "touched": laid.touched,
        "glare_mm2": area("glare"),
        "shadow_mm2": area("shadow"),
    }
