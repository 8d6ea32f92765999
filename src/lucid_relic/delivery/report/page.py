"""What the report says, apart from how it is written."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from lucid_relic.types import TriangleMesh
from lucid_relic.view.picture import picture_of_mesh

PICTURE_PX = 420
SIDES = (("front", 0.0), ("right", 90.0), ("back", 180.0), ("left", 270.0))
ROUND = ("circle", "sphere", "cylinder")
Rows = list[tuple[str, ...]]


@dataclass(frozen=True)
class Section:
    """Rows of figures under a title: the first cell of each is words; head names their columns, if they need names."""

    title: str
    rows: Rows
    head: tuple[str, ...] = ()
    sentence: str = ""


@dataclass(frozen=True)
class Page:
    """A report: pictures (h, w, 3) uint8 by the side that they are from, and sections."""

    title: str
    notes: str
    pictures: list[tuple[str, np.ndarray]]
    sections: list[Section]


def page_of(
    mesh: TriangleMesh | None, title: str, notes: str, summary: Mapping[str, Any], steps: Sequence[Mapping[str, Any]],
    checked: Sequence[str] = (),
) -> Page:  # fmt: skip
    """Pictures of the mesh from four sides, and the figures, lengths, passes and steps of a state's summary.

    checked tells in sentences how the instruments were checked last.
    """
    pictures = [] if mesh is None else [(name, picture_of_mesh(mesh, PICTURE_PX, a, turning=True)) for name, a in SIDES]
    sections = []
    if summary.get("mesh"):
        sections.append(Section("Size and surface", _surface_rows(summary)))
    sections.append(_lengths(summary))
    if summary.get("accuracy"):
        sections.append(_accuracy(summary, checked))
    if summary.get("deviation"):
        sections.append(Section("Deviation", _deviation_rows(summary["deviation"])))
    if summary.get("passes"):
        sections.append(_passes(summary["passes"]))
    if steps:
        rows: Rows = [(s["title"], s.get("headline", ""), f"{s.get('seconds', 0):.1f} s") for s in steps]
        sections.append(Section("Steps", rows, ("Step", "What came of it", "Time")))
    return Page(title, notes, pictures, sections)


def _surface_rows(summary: Mapping[str, Any]) -> Rows:
    mesh = summary["mesh"]
    rows: Rows = [
        ("Size", " × ".join(f"{v:.2f}" for v in mesh["size_mm"]) + " mm"),
        ("Surface", f"{mesh['area_mm2'] / 100:.2f} cm²"),
        ("Volume", f"{mesh['volume_mm3'] / 1000:.2f} cm³" if mesh["volume_mm3"] is not None else "open: it holds none"),
        ("Triangles", f"{mesh['triangles']:,}".replace(",", "\u2009")),
        ("Closed", "yes" if mesh["watertight"] else f"no, {mesh['holes']['count']} holes"),
        ("Measured", f"{(1 - mesh['made_up_area_fraction']) * 100:.1f} % of the surface"),
        ("Made up", f"{mesh['made_up_area_fraction'] * 100:.1f} %: closed by computation, seen by no frame"),
    ]
    if mesh["textured"]:
        rows.append(
            ("Colour", f"{mesh['texture_size']} texels a side, {mesh['texture_seen'] * 100:.1f} % photographed")
        )
    if summary.get("voxel_mm"):
        rows.append(("Fused at", f"{summary['voxel_mm']:.3f} mm"))
    return rows


def _lengths(summary: Mapping[str, Any]) -> Section:
    scale = summary.get("scale")
    said = "As the instrument measured; not checked with a caliper."
    if scale:
        by = "so that lengths are what a caliper read" if scale["by_caliper"] else "by a factor"
        said = f"Scaled by {(scale['factor'] - 1) * 100:+.3f} %, {by}."
    rows: Rows = []
    for one in summary.get("lengths", []):
        angle = one["kind"] == "angle"
        sign = "⌀ " if one["kind"] in ROUND else ""
        value = f"{one['value']:.2f}°" if angle else f"{sign}{one['value']:.3f} mm"
        sure = f"± {2 * one['sd']:.3f} mm (k = 2)" if one["sd"] else ""
        caliper = f"caliper {one['caliper_mm']:.2f} mm" if one["caliper_mm"] else ""
        rows.append((one["name"], value, sure, caliper))
    return Section("Scale and lengths", rows, ("Name", "Value", "", ""), said)


def _accuracy(summary: Mapping[str, Any], checked: Sequence[str]) -> Section:
    told = summary["accuracy"]
    framed = [p for p in summary["passes"] if p["frames"] and not p.get("off")]
    noise = max((p["noise_mm"] for p in framed), default=0.0)
    fits = [p["rms_mm"] for p in framed if p["rms_mm"] is not None]
    rows: Rows = [
        ("Half of the places", f"± {told['half_mm']:.3f} mm (k = 1)"),
        ("95 % of the places", f"± {told['p95_mm']:.3f} mm (k = 1)"),
        ("Off the truth in the mean", f"{told['expected_mm']:.3f} mm, as expected of that"),
        ("Repeatability", f"± {told['repeatability_mm']:.3f} mm, from odd and from even frames"),
        ("Noise of a frame", f"{noise:.3f} mm"),
        ("Residual after settling", f"{max(fits):.3f} mm" if fits else "not settled"),
        ("Told of", f"{told['measured_share'] * 100:.1f} % of the surface; the rest no frame measured"),
    ]
    by_caliper = (summary.get("scale") or {}).get("by_caliper")
    scale = "Scale: by a caliper." if by_caliper else "Scale: as the instrument measures; not checked with a caliper."
    instrument = " ".join(checked) or "No check of its instrument is on record."
    return Section("Accuracy", rows, (), f"{scale} {instrument}")


def _deviation_rows(told: Mapping[str, Any]) -> Rows:
    rows: Rows = [
        ("Against", told["against"]),
        ("Mean", f"{told['mean_mm']:+.3f} mm (outside positive)"),
        ("95 % within", f"{told['p95_mm']:.3f} mm"),
        ("Farthest", f"{told['max_mm']:.3f} mm"),
    ]
    if told["within_share"] is not None:
        rows.append(("In the band", f"{told['within_share'] * 100:.1f} % within ± {told['tolerance_mm']:g} mm"))
    return rows


def _passes(passes: Sequence[Mapping[str, Any]]) -> Section:
    rows: Rows = []
    for scan in passes:
        frames = f"{sum(scan['frames_in'])} of {scan['frames']}" if scan["frames"] else "came as points"
        noise = f"{scan['noise_mm']:.3f} mm" if scan["noise_mm"] else ""
        fit = f"{scan['rms_mm']:.3f} mm" if scan["rms_mm"] is not None else ""
        where = "switched off" if scan.get("off") else "placed" if scan["placed"] else "not placed"
        rows.append((scan["title"], frames, noise, fit, where))
    return Section("Passes", rows, ("Pass", "Frames in", "Noise of a frame", "Residual after settling", ""))
