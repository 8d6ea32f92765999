"""What is still wrong with a state, as far as its figures tell: the findings.

What needs a closer look at frames and surfaces is found behind the steps, by `lucid_relic.findings`. The thresholds, each
with its reason, stand in docs/algorithms/findings.md.
"""

from typing import Any

from lucid_relic.types import UNITS_MM

STRANGE_NOTABLE_MM2 = 2.0  # area from which glare or shadow that was left out is told
UNSEEN_NOTABLE = 0.03  # share of the texture: under a foot it is 1-2 %
SHOWN_SPOTS = 3  # of thin walls, a finding each
SHOWN_FRAMES = 8  # named in a sentence
ORDINARY_MM = (15.0, 3000.0)  # across: what is scanned here; outside of it a file may have been in another unit
UNIT_NAMES = {"mm": "millimetres", "cm": "centimetres", "m": "metres", "in": "inches"}
MADE_UP_NOTABLE = 0.02  # share of the surface from which it is worth a finding: a foot is 1-3 %
BADLY_TIMES, BADLY_NOISES = 2.5, 3.0  # of the median of its pass, and of the noise, from which a frame fits badly
FAR_SIZES = 2.0  # of its size that a standing object's middle is off the origin
MOST_TRIANGLES = 1_000_000  # that programs which take a mesh over still bear


def finding(
    kind: str, stage: str, title: str, detail: str, figure: str, operation: str | None = None, place: Any = None,
    about: str = "",
) -> dict[str, Any]:  # fmt: skip
    """One finding: see `findings`; about is the title of the pass it concerns, or nothing."""
    return {"kind": kind, "stage": stage, "title": title, "detail": detail, "figure": figure,
            "operation": operation, "place": place, "about": about}  # fmt: skip


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
        if summary["upright"]:
            out += _once_it_stands(summary)
    return sorted(out, key=lambda f: f["kind"] != "shifted pass")


def _pass_findings(n: int, scan: dict[str, Any], count: int) -> list[dict[str, Any]]:
    out = []
    title = f"“{scan['title']}”"
    if not scan["posed"]:
        out.append(finding("unplaced frames", "capture", f"Frames of {title} not placed",
                            "The table’s axis is only roughly known yet; ghost layers would follow.", f"{scan['frames']} frames", "place_frames", about=scan["title"]))  # fmt: skip
    elif not scan["cut"] and not scan.get("points"):
        out.append(finding("stand", "clean", f"Stand still in {title}",
                            "The plate would be fused with the object.", "", "stand_cut", about=scan["title"]))  # fmt: skip
    elif count > 1 and not scan["placed"]:
        out.append(finding("shifted pass", "align", f"{title} is not aligned",
                            "It lies where the scanner saw it, not on the other passes, and would be left out.", "", "find_fit", about=scan["title"]))  # fmt: skip
    came = scan.get("points")
    if came and came["unit_from"] == "size" and _is_odd(came):
        numbers = came["size_mm"] / UNITS_MM[came["unit"]]
        out.append(finding("guessed unit", "capture", f"Is {title} in {UNIT_NAMES[came['unit']]}?",
                            f"Its file says no unit; it is {numbers:.3g} across, so it was taken for {UNIT_NAMES[came['unit']]}.",
                            f"{came['size_mm']:.4g} mm", "set_unit", about=scan["title"]))  # fmt: skip
    if scan.get("knocked"):
        out.append(finding("knocked", "capture", f"The object moved on the table in {title}",
                            f"{_numbered(scan['knocked'])} stand off where the table put them; their shape placed them.",
                            f"{len(scan['knocked'])}", about=scan["title"]))  # fmt: skip
    loose = [i for i in scan.get("loose", []) if scan["frames_in"][i]]
    if loose:
        out.append(finding("loose frames", "capture", f"Frames of {title} lie loose",
                           f"{_numbered(loose)} see nothing that holds them sideways, and no other frame sees the same. Take that side again with an edge in view, or stick markers.",
                           f"{len(loose)}", about=scan["title"]))  # fmt: skip
    left_out = scan["frames_in"].count(False)
    if left_out:
        out.append(finding("slip", "align", f"Frames left out of {title}",
                            "They fit worse than the rest, lie loose where others see the same, or were left out by hand, and are not fused.", f"{left_out}", about=scan["title"]))  # fmt: skip
    badly = _frames_off(scan)
    if badly:
        out.append(finding("badly fitting frames", "align", f"Frames of {title} fit badly",
                           f"{_numbered(badly)} lie farther off the others than the rest of the pass: settle again, or leave them out.",
                           f"{max(scan['fit_mm'][i] for i in badly):.2f} mm", "settle", about=scan["title"]))  # fmt: skip
    return out


def _numbered(frames: list[int]) -> str:
    """Frames as the strip numbers them, the first few."""
    return f"Frames {', '.join(str(i + 1) for i in frames[:SHOWN_FRAMES])}{' and more' if len(frames) > SHOWN_FRAMES else ''}"


def _frames_off(scan: dict[str, Any]) -> list[int]:
    """Frames in use whose residual stands out from those of their pass."""
    known = sorted(fit for fit, used in zip(scan["fit_mm"], scan["frames_in"], strict=True) if used and fit is not None)
    if not known:
        return []
    most = max(BADLY_TIMES * known[len(known) // 2], BADLY_NOISES * scan["noise_mm"])
    fits = enumerate(zip(scan["fit_mm"], scan["frames_in"], strict=True))
    return [i for i, (fit, used) in fits if used and fit is not None and fit > most]


def _thin_walls(walls: dict[str, Any] | None) -> list[dict[str, Any]]:
    if walls is None:
        return []
    return [
        finding("thin wall", "mend", "Thin wall", f"Thinner than the {walls['least_mm']:g} mm that the printer makes, over {spot['area_mm2']:.1f} mm².",
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
    return [finding("other passes", "fuse", "Surface of other passes",
                     f"{', '.join(gone + new)}. Everything that follows from the surface tells of the passes it was fused of.",
                     f"{len(gone + new)}", "fuse")]  # fmt: skip


def _swallowed_finding(place: dict[str, Any]) -> dict[str, Any]:
    return finding("swallowed detail", "fuse", "Swallowed detail",
                    f"Two frames or more measured something {place['wide_mm']:.1f} mm wide here that the surface does not go through. "
                    "Fuse finer or Crisp, or give this place local detail.",
                    f"{place['off_mm']:.2f} mm", "local_detail", place["at"])  # fmt: skip


def _ghost_finding(ghost: dict[str, Any]) -> dict[str, Any]:
    first, last = ghost["frames"][0] + 1, ghost["frames"][-1] + 1
    which = f"Frame {first}" if first == last else f"Frames {first} to {last}"
    verb = "lies" if first == last else "lie"
    return finding("ghost layer", "clean", f"Ghost layer in “{ghost['pass']}”",
                    f"{which} {verb} beside the others, {ghost['noises']:.1f} times the noise: the surface would be fused twice.",
                    f"{ghost['apart_mm']:.2f} mm", "ghost_layers", ghost["at"], ghost["pass"])  # fmt: skip


def _notable(strange: list[dict[str, Any]]) -> list[dict[str, Any]]:
    return [place for place in strange if place["area_mm2"] >= STRANGE_NOTABLE_MM2][:SHOWN_SPOTS]


def _strange_finding(place: dict[str, Any]) -> dict[str, Any]:
    one, many = ("shines", "shine") if place["kind"] == "glare" else ("is dark", "are dark")
    shows = f"One photograph {one}" if place["views"] == 1 else f"{place['views']} photographs {many}"
    return finding(place["kind"], "colour", place["kind"].capitalize(),
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
        out.append(finding("hole", "fuse", "Holes left",
                            f"The longest rim is {holes['longest_mm']:.1f} mm around. A print needs them closed.",
                            f"{holes['count']}", closing, holes["place"]))  # fmt: skip
    elif not mesh["watertight"]:
        out.append(
            finding("not manifold", "mend", "Not watertight", "Some edges carry more than two triangles.", "", None)
        )
    if mesh["pieces"] > 1:
        out.append(finding("loose pieces", "mend", "Loose pieces",
                            "Bits that are not connected to the object.", f"{mesh['pieces'] - 1}", "largest_piece"))  # fmt: skip
    if mesh["made_up_area_fraction"] > MADE_UP_NOTABLE:
        out.append(finding("made up", "fuse", "Made-up area",
                            "No frame measured it; it was closed by computation.",
                            f"{mesh['made_up_area_fraction'] * 100:.1f} %", None, mesh["made_up_place"]))  # fmt: skip
    if coloured and not mesh["textured"]:
        out.append(
            finding(
                "no colour", "colour", "No colour laid yet", "The photographs are not on the mesh.", "", "lay_colour"
            )
        )
    seen = mesh.get("texture_seen")
    if seen is not None and seen < 1 - UNSEEN_NOTABLE:
        out.append(finding("unseen colour", "colour", "Unseen colour",
                            "No photograph saw it; its colour was continued from around.", f"{(1 - seen) * 100:.1f} %", None))  # fmt: skip
    if mesh["triangles"] > MOST_TRIANGLES:
        out.append(finding("too many triangles", "deliver", "Too many triangles",
                           "Few programs that take it over bear more than a million; receivers can reduce it on the way, too.",
                           f"{mesh['triangles'] / 1e6:.1f} M", "simplify"))  # fmt: skip
    if not upright:
        out.append(finding("crooked", "set", "Not standing", "It lies where the scanner saw it.", "", "stand_up"))
    return out


def _once_it_stands(summary: dict[str, Any]) -> list[dict[str, Any]]:
    """What is asked of an object that stands: where it stands, and whether anybody checked its scale."""
    out = []
    mesh = summary["mesh"]
    middle = [(low + high) / 2 for low, high in zip(mesh["low_mm"], mesh["high_mm"], strict=True)]
    off = sum(v * v for v in middle) ** 0.5
    if off > FAR_SIZES * max(mesh["size_mm"]):
        out.append(finding("far from the origin", "set", "Far from the origin",
                           "Programs that take it over turn it about the origin, far from itself.", f"{off:.0f} mm", "stand_up"))  # fmt: skip
    checked = summary.get("scale") or any(length["caliper_mm"] for length in summary.get("lengths", []))
    if not checked:
        out.append(finding("scale unchecked", "set", "Scale not checked",
                           "No length of it was held against a caliper.", "", "measure"))  # fmt: skip
    return out
