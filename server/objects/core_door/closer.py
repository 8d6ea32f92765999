"""A closer look at a state, behind the steps: findings that need frames and surfaces."""

from typing import Any

from lucid_relic.capture.instruments import instrument
from lucid_relic.findings.closer import look_closer as look
from lucid_relic.io.results import finite
from lucid_relic.progress import Progress
from objects.core_door.states import load
from objects.core_door.views import (
    USUAL,
    glance_file,
    make_glance,
    make_mesh,
    make_pass,
    make_picture,
    mesh_file,
    pass_file,
    picture_file,
    shown_file,
    wants_glance,
)


def look_closer(
    manifest: dict[str, Any], summary: dict[str, Any], taken_by: dict[str, str], progress: Progress
) -> list[dict[str, Any]]:
    """Further findings of a snapshot; taken_by tells the instruments of captures by their keys."""
    state = load(manifest)
    sheets = [instrument(taken_by.get(entry["capture"]) or USUAL) for entry in manifest["passes"]]
    found: list[dict[str, Any]] = finite(look(state, sheets, summary, progress))
    return found


def see_to_views(manifest: dict[str, Any], triangles: int) -> None:
    """Make what the view shows of a snapshot, its surface of so many triangles or else its points, unless it is there."""
    if manifest["mesh"]:
        if shown_file(mesh_file(manifest["mesh"])) is None:
            make_mesh(manifest)
        if wants_glance(triangles) and shown_file(glance_file(manifest["mesh"])) is None:
            make_glance(manifest)
        return
    for number, entry in enumerate(manifest["passes"]):
        if shown_file(pass_file(entry)) is None:
            make_pass(manifest, number)


def see_to_picture(manifest: dict[str, Any], snapshot: str) -> None:
    """Make the picture of a snapshot that the shelf shows, unless it is there."""
    if (manifest["mesh"] or manifest["passes"]) and shown_file(picture_file(snapshot)) is None:
        make_picture(manifest, snapshot)
