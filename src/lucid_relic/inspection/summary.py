"""A state in figures, and what is still wrong with it: the findings."""

import hashlib
from collections.abc import Mapping
from typing import Any

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from lucid_relic.geometry.measured import size_of
from lucid_relic.geometry.topology import edge_table, is_watertight
from lucid_relic.inspection.mesh_check import face_components
from lucid_relic.types import UNITS_MM, MeasuredCloud, PassState, ScanState, TriangleMesh

# Among the notes of a state:
GHOSTS, FUSED_OF, WALLS, OF_TAKE, SWALLOWED = "ghosts", "fused_of", "walls", "of_take", "swallowed"
ADJUST, ROUGHNESS, STRANGE, LENGTHS, SCALE = "adjust", "roughness", "strange_light", "lengths", "scale"
DEVIATION = "deviation"
USUAL_ROUGHNESS = 0.8  # of what nobody said otherwise of
STRANGE_NOTABLE_MM2 = 2.0  # area from which glare or shadow that was left out is told
UNSEEN_NOTABLE = 0.03  # share of the texture: under a foot it is 1-2 %
SHOWN_SPOTS = 3  # of thin walls, a finding each
SHOWN_FRAMES = 8  # named in a sentence
ORDINARY_MM = (15.0, 3000.0)  # across: what is scanned here; outside of it a file may have been in another unit
UNIT_NAMES = {"mm": "millimetres", "cm": "centimetres", "m": "metres", "in": "inches"}
MADE_UP_NOTABLE = 0.02  # share of the surface from which it is worth a finding: a foot is 1-3 %


def summarise_state(state: ScanState) -> dict[str, Any]:
    """Figures for shelf, worksheet and pass tracks, as plain JSON."""
    return {
        "passes": [_pass_figures(p) for p in state.passes],
        "mesh": _mesh_figures(state.mesh) if state.mesh is not None else None,
        "points": len(state.points) if state.points is not None else 0,
        "voxel_mm": state.volume.voxel_mm if state.volume is not None else None,
        "upright": state.upright,
        "walls": _of_this_mesh(state, WALLS),
        "fused_of": state.notes.get(FUSED_OF),
        "takes": [{"name": t.name, **t.told} for t in state.takes],
        "of_take": state.notes.get(OF_TAKE),
        "swallowed": state.notes.get(SWALLOWED, []) if state.volume is not None else [],
        "adjust": state.notes.get(ADJUST),
        "roughness": state.notes.get(ROUGHNESS, USUAL_ROUGHNESS),
        "strange_light": state.notes.get(STRANGE, []) if state.mesh is not None and state.mesh.texture else [],
        "lengths": state.notes.get(LENGTHS, []),
        "scale": state.notes.get(SCALE),
        "deviation": _of_this_mesh(state, DEVIATION),
        "ghosts": [ghost for ghost in state.notes.get(GHOSTS, []) if still_in(state, ghost)],
    }


def digest_of_mesh(mesh: TriangleMesh) -> str:
    """A short name of a mesh's shape: what was measured of it holds as long as that stays."""
    shape = hashlib.blake2b(np.ascontiguousarray(mesh.vertices).tobytes(), digest_size=8)
    shape.update(np.ascontiguousarray(mesh.faces).tobytes())
    return shape.hexdigest()


def _of_this_mesh(state: ScanState, name: str) -> dict[str, Any] | None:
    """What was found on just this mesh, of those a note tells of: thin walls, how far it lies off a reference."""
    told = state.notes.get(name)
    if told is None or state.mesh is None or told["of"] != digest_of_mesh(state.mesh):
        return None
    return dict(told)


def still_in(state: ScanState, ghost: Mapping[str, Any]) -> bool:
    """Whether frames that laid a ghost layer are in use."""
    scan = next((p for p in state.passes if p.title == ghost["pass"]), None)
    return scan is not None and not scan.off and any(scan.frame_in[i] for i in ghost["frames"] if i < scan.frame_count)


def _pass_figures(scan: PassState) -> dict[str, Any]:
    fit = [None if np.isnan(f) else round(float(f), 4) for f in scan.fit_mm]
    share = None
    if scan.keep is not None:
        share = [round(float(np.bitwise_count(row).sum()) / (row.size * 8), 5) for row in scan.keep]
    known = scan.fit_mm[~np.isnan(scan.fit_mm)]
    return {
        "title": scan.title,
        "capture": scan.source.key,
        "tracking": scan.tracking,
        "width": scan.camera.width,
        "frames": scan.frame_count,
        "frames_in": [bool(b) for b in scan.frame_in],
        "fit_mm": fit,
        "kept_share": share,
        "rms_mm": round(float(np.sqrt((known**2).mean())), 4) if len(known) else None,
        "noise_mm": scan.noise_mm,
        "knocked": list(scan.knocked),
        "posed": bool(scan.posed and (len(known) or scan.cloud is not None)),
        "points": _cloud_figures(scan.cloud) if scan.cloud is not None else None,
        "cut": scan.keep is not None,
        "placed": scan.placed,
        "off": scan.off,
        "T_object_pass": [[float(v) for v in row] for row in scan.T_object_pass],
    }


def _cloud_figures(cloud: MeasuredCloud) -> dict[str, Any]:
    """What a pass of points came as; coloured says that its points or its texture have colour."""
    surface = cloud.surface
    return {
        "count": len(cloud),
        "triangles": len(surface.faces) if surface is not None else 0,
        "size_mm": round(size_of(cloud.cloud.points), 4),
        "spacing_mm": round(cloud.spacing_mm, 4),
        "unit": cloud.unit,
        "unit_from": cloud.unit_from,
        "normals_from": cloud.normals_from,
        "coloured": cloud.cloud.colours is not None or (surface is not None and surface.texture is not None),
    }


def _mesh_figures(mesh: TriangleMesh) -> dict[str, Any]:
    edges, counts, _ = edge_table(mesh.faces)
    low, high = mesh.vertices.min(axis=0), mesh.vertices.max(axis=0)
    watertight = is_watertight(mesh.faces, counts)
    border = edges[counts == 1]
    return {
        "triangles": len(mesh.faces),
        "vertices": len(mesh.vertices),
        "size_mm": (high - low).round(2).tolist(),
        "low_mm": low.round(3).tolist(),
        "high_mm": high.round(3).tolist(),
        "watertight": watertight,
        "volume_mm3": mesh.volume_mm3() if watertight else None,
        "area_mm2": mesh.area_mm2(),
        "made_up_area_fraction": mesh.made_up_area_fraction(),
        "made_up_place": _made_up_place(mesh),
        "textured": mesh.texture is not None,
        "texture_seen": mesh.texture.seen if mesh.texture is not None else None,
        "texture_size": mesh.texture.image.shape[0] if mesh.texture is not None else None,
        "holes": _holes(mesh, border),
        "pieces": face_components(mesh.faces)[0],
    }


def _made_up_place(mesh: TriangleMesh) -> list[float] | None:
    """Middle of the largest made-up patch."""
    if mesh.made_up is None or not mesh.made_up.any():
        return None
    part = mesh.select_faces(mesh.made_up)
    _, piece = face_components(part.faces)
    area = np.linalg.norm(part.face_normals(), axis=1)
    largest = piece == np.argmax(np.bincount(piece, area))
    return part.corners[largest].mean(axis=(0, 1)).round(2).tolist()


def _holes(mesh: TriangleMesh, border: np.ndarray) -> dict[str, Any]:
    """How many runs of border edges there are, and length and middle of the longest."""
    if not len(border):
        return {"count": 0}
    used, local = np.unique(border, return_inverse=True)
    local = local.reshape(-1, 2)
    graph = coo_matrix((np.ones(len(local)), (local[:, 0], local[:, 1])), shape=(len(used),) * 2)
    count, label = connected_components(graph, directed=False)
    ends = mesh.vertices[border]
    length = np.bincount(label[local[:, 0]], np.linalg.norm(ends[:, 0] - ends[:, 1], axis=1))
    longest = int(np.argmax(length))
    place = mesh.vertices[used[label == longest]].mean(axis=0)
    return {"count": int(count), "longest_mm": float(length[longest]), "place": place.round(2).tolist()}


def findings(summary: dict[str, Any]) -> list[dict[str, Any]]:
    """What the program sees wrong, most pressing first: a pass that is missing from all that follows before all else.

    Each finding has kind, stage, title, detail, figure, the operation that would mend it (or None),
    and a place (mm, in the object) to fly to (or None).
    """
    out: list[dict[str, Any]] = []
    used = [p for p in summary["passes"] if not p.get("off")]
    for n, scan in enumerate(used):
        out += _pass_findings(n, scan, len(used))
    out += _thin_walls(summary.get("walls"))
    out += _of_other_passes(summary)
    out += [_swallowed_finding(place) for place in summary.get("swallowed", [])[:SHOWN_SPOTS]]
    out += [_ghost_finding(ghost) for ghost in summary.get("ghosts", [])]
    if summary["mesh"]:
        coloured = any(p.get("points") is None or p["points"]["coloured"] for p in summary["passes"])
        closing = "close" if summary.get("voxel_mm") is not None else "patch_holes"
        out += _mesh_findings(summary["mesh"], summary["upright"], coloured, closing)
        out += [_strange_finding(p) for p in _notable(summary.get("strange_light", []))]
    return sorted(out, key=lambda f: f["kind"] != "shifted pass")


def _finding(
    kind: str, stage: str, title: str, detail: str, figure: str, operation: str | None, place: Any = None
) -> dict[str, Any]:
    return {"kind": kind, "stage": stage, "title": title, "detail": detail, "figure": figure,
            "operation": operation, "place": place}  # fmt: skip


def _pass_findings(n: int, scan: dict[str, Any], count: int) -> list[dict[str, Any]]:
    out = []
    title = f"“{scan['title']}”"
    if not scan["posed"]:
        out.append(_finding("unplaced frames", "capture", f"Frames of {title} not placed",
                            "The table’s axis is only roughly known yet; ghost layers would follow.", f"{scan['frames']} frames", "place_frames"))  # fmt: skip
    elif not scan["cut"] and not scan.get("points"):
        out.append(_finding("stand", "clean", f"Stand still in {title}",
                            "The plate would be fused with the object.", "", "stand_cut"))  # fmt: skip
    elif count > 1 and not scan["placed"]:
        out.append(_finding("shifted pass", "align", f"{title} is not aligned",
                            "It lies where the scanner saw it, not on the other passes, and would be left out.", "", "find_fit"))  # fmt: skip
    came = scan.get("points")
    if came and came["unit_from"] == "size" and _is_odd(came):
        numbers = came["size_mm"] / UNITS_MM[came["unit"]]
        out.append(_finding("guessed unit", "capture", f"Is {title} in {UNIT_NAMES[came['unit']]}?",
                            f"Its file says no unit; it is {numbers:.3g} across, so it was taken for {UNIT_NAMES[came['unit']]}.",
                            f"{came['size_mm']:.4g} mm", "set_unit"))  # fmt: skip
    if scan.get("knocked"):
        frames = ", ".join(str(i + 1) for i in scan["knocked"][:SHOWN_FRAMES])
        more = " and more" if len(scan["knocked"]) > SHOWN_FRAMES else ""
        out.append(_finding("knocked", "capture", f"The object moved on the table in {title}",
                            f"Frames {frames}{more} stand off where the table put them; their shape placed them.",
                            f"{len(scan['knocked'])}", None))  # fmt: skip
    left_out = scan["frames_in"].count(False)
    if left_out:
        out.append(_finding("slip", "align", f"Frames left out of {title}",
                            "They fit worse than the rest, or were left out by hand, and are not fused.", f"{left_out}", None))  # fmt: skip
    return out


def _thin_walls(walls: dict[str, Any] | None) -> list[dict[str, Any]]:
    if walls is None:
        return []
    return [
        _finding("thin wall", "mend", "Thin wall", f"Thinner than the {walls['least_mm']:g} mm that the printer makes, over {spot['area_mm2']:.1f} mm².",
                 f"{spot['least_mm']:.2f} mm", None, spot["place"])
        for spot in walls["spots"][:SHOWN_SPOTS]
    ]  # fmt: skip


def _of_other_passes(summary: dict[str, Any]) -> list[dict[str, Any]]:
    """The surface was fused of other passes than those that are in now."""
    fused = summary.get("fused_of")
    if fused is None or not summary["mesh"]:
        return []
    used = {p["title"] for p in summary["passes"] if p["placed"] and not p.get("off")}
    gone = [f"“{title}” is switched off" for title in fused if title not in used]
    new = [f"“{p['title']}” is not in it" for p in summary["passes"] if p["title"] in used - set(fused)]
    if not gone + new:
        return []
    return [_finding("other passes", "fuse", "Surface of other passes",
                     f"{', '.join(gone + new)}. Everything that follows from the surface tells of the passes it was fused of.",
                     f"{len(gone + new)}", "fuse")]  # fmt: skip


def _swallowed_finding(place: dict[str, Any]) -> dict[str, Any]:
    return _finding("swallowed detail", "fuse", "Swallowed detail",
                    f"Two frames or more measured something {place['wide_mm']:.1f} mm wide here that the surface does not go through. "
                    "Fuse finer or Crisp, or give this place local detail.",
                    f"{place['off_mm']:.2f} mm", "local_detail", place["at"])  # fmt: skip


def _ghost_finding(ghost: dict[str, Any]) -> dict[str, Any]:
    first, last = ghost["frames"][0] + 1, ghost["frames"][-1] + 1
    which = f"Frame {first}" if first == last else f"Frames {first} to {last}"
    verb = "lies" if first == last else "lie"
    return _finding("ghost layer", "clean", f"Ghost layer in “{ghost['pass']}”",
                    f"{which} {verb} beside the others, {ghost['noises']:.1f} times the noise: the surface would be fused twice.",
                    f"{ghost['apart_mm']:.2f} mm", "ghost_layers", ghost["at"])  # fmt: skip


def _notable(strange: list[dict[str, Any]]) -> list[dict[str, Any]]:
    return [place for place in strange if place["area_mm2"] >= STRANGE_NOTABLE_MM2][:SHOWN_SPOTS]


def _strange_finding(place: dict[str, Any]) -> dict[str, Any]:
    one, many = ("shines", "shine") if place["kind"] == "glare" else ("is dark", "are dark")
    shows = f"One photograph {one}" if place["views"] == 1 else f"{place['views']} photographs {many}"
    return _finding(place["kind"], "colour", place["kind"].capitalize(),
                    f"{shows} here while the others agree; the others were taken. Heal what still shows.",
                    f"{place['area_mm2'] / 100:.1f} cm²" if place["area_mm2"] >= 100 else f"{place['area_mm2']:.0f} mm²",
                    "heal_colour", place["at"])  # fmt: skip


def _is_odd(came: dict[str, Any]) -> bool:
    """Whether a guessed unit should be asked about: not millimetres, or very small or large in them."""
    return bool(came["unit"] != "mm" or not ORDINARY_MM[0] <= came["size_mm"] <= ORDINARY_MM[1])


def _mesh_findings(mesh: dict[str, Any], upright: bool, coloured: bool, closing: str) -> list[dict[str, Any]]:
    """closing names what closes holes: what was fused is closed in its volume, what came in as a mesh by patches."""
    out = []
    if mesh["holes"]["count"]:
        holes = mesh["holes"]
        out.append(_finding("hole", "fuse", "Holes left",
                            f"The longest rim is {holes['longest_mm']:.1f} mm around. A print needs them closed.",
                            f"{holes['count']}", closing, holes["place"]))  # fmt: skip
    elif not mesh["watertight"]:
        out.append(
            _finding("not manifold", "mend", "Not watertight", "Some edges carry more than two triangles.", "", None)
        )
    if mesh["pieces"] > 1:
        out.append(_finding("loose pieces", "mend", "Loose pieces",
                            "Bits that are not connected to the object.", f"{mesh['pieces'] - 1}", "largest_piece"))  # fmt: skip
    if mesh["made_up_area_fraction"] > MADE_UP_NOTABLE:
        out.append(_finding("made up", "fuse", "Made-up area",
                            "No frame measured it; it was closed by computation.",
                            f"{mesh['made_up_area_fraction'] * 100:.1f} %", None, mesh["made_up_place"]))  # fmt: skip
    if coloured and not mesh["textured"]:
        out.append(
            _finding(
                "no colour", "colour", "No colour laid yet", "The photographs are not on the mesh.", "", "lay_colour"
            )
        )
    seen = mesh.get("texture_seen")
    if seen is not None and seen < 1 - UNSEEN_NOTABLE:
        out.append(_finding("unseen colour", "colour", "Unseen colour",
                            "No photograph saw it; its colour was continued from around.", f"{(1 - seen) * 100:.1f} %", None))  # fmt: skip
    if not upright:
        out.append(_finding("crooked", "set", "Not standing", "It lies where the scanner saw it.", "", "stand_up"))
    return out
