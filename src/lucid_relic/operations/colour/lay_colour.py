"""Lay colour: the photographs as a texture."""

from dataclasses import dataclass, replace
from typing import NotRequired, TypedDict

from lucid_relic.colour.lay import NO_COLOUR, has_colour
from lucid_relic.colour.lay import lay_colour as lay
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.operations.registry import Need, Report, operation
from lucid_relic.operations.words import percent
from lucid_relic.progress import Progress
from lucid_relic.types import ScanState


@dataclass(frozen=True, kw_only=True)
class LayColourParameters(Parameters):
    size: int = param(2048, "Side of the square texture", unit="texels", low=256, high=8192)
    need_colour: bool = param(False, "Fail when no pass has colour, instead of leaving the mesh plain")


class LayColourReport(TypedDict):
    """Side of the texture in texels (0: none), the share of it that a photograph or a coloured point saw; else why not."""

    texture: int
    seen_share: float
    why: NotRequired[str]


def _headline(report: Report) -> str:
    if report.get("texture") == 0:
        return "no colour to lay"
    return f"seen {percent(report['seen_share'], 0)}"


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
    if not params.need_colour and not has_colour(state):
        return state, {"texture": 0, "seen_share": 0.0, "why": NO_COLOUR}
    mesh = lay(state.for_surface(), state.mesh, params.size, progress)
    return replace(state, mesh=mesh), {
        "texture": params.size,
        "seen_share": mesh.texture.seen if mesh.texture else 0.0,
    }
