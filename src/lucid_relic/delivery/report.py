"""The report: one page that says what an object is, how large, what was measured of it and how, for whoever receives it."""

import base64
import html
import io
from collections.abc import Mapping, Sequence
from typing import Any

from PIL import Image

from lucid_relic.types import TriangleMesh
from lucid_relic.view.picture import picture_of_mesh

PICTURE_PX = 420
SIDES = (("front", 0.0), ("right", 90.0), ("back", 180.0), ("left", 270.0))
ROUND = ("circle", "sphere", "cylinder")
STYLE = """
@page{size:A4;margin:14mm}body{margin:24px auto;max-width:900px;color:#1d2b3a;background:#fffdf7;font:14px/1.45 system-ui,sans-serif}
h1{font-size:26px;margin:0}h2{font-size:16px;margin:22px 0 6px;border-bottom:1px solid #d9d0bf;padding-bottom:3px}
table{border-collapse:collapse;width:100%}td,th{text-align:left;padding:3px 10px 3px 0;vertical-align:top}
table.facts{width:auto}td.n,th.n{text-align:right;font-variant-numeric:tabular-nums;white-space:nowrap}th{font-weight:600;color:#4d5a66}
.sides{display:grid;grid-template-columns:repeat(4,1fr);gap:8px}figure{margin:0;background:#efe9dd;border-radius:6px}
img{width:100%;display:block}figcaption{text-align:center;color:#4d5a66;padding-bottom:4px}.quiet{color:#4d5a66}
"""


def report_html(
    mesh: TriangleMesh | None, title: str, notes: str, summary: Mapping[str, Any], steps: Sequence[Mapping[str, Any]]
) -> str:
    """The page, whole in one file: pictures from four sides, figures, lengths, passes and steps of a state's summary."""
    parts = [f"<h1>{html.escape(title)}</h1>"]
    if notes:
        parts.append(f"<p>{html.escape(notes)}</p>")
    if mesh is not None:
        parts.append(f'<div class="sides">{"".join(_side(mesh, name, angle) for name, angle in SIDES)}</div>')
    if summary.get("mesh"):
        parts += ["<h2>Size and surface</h2>", _table(_surface_rows(summary))]
    parts += ["<h2>Scale and lengths</h2>", _lengths(summary)]
    if summary.get("deviation"):
        parts += ["<h2>Deviation</h2>", _table(_deviation_rows(summary["deviation"]))]
    if summary.get("passes"):
        parts += ["<h2>Passes</h2>", _passes(summary["passes"])]
    if steps:
        rows = [(s["title"], s.get("headline", ""), f"{s.get('seconds', 0):.1f} s") for s in steps]
        parts += ["<h2>Steps</h2>", _table(rows, ("Step", "What came of it", "Time"))]
    body = "\n".join(parts)
    return (
        f'<!doctype html>\n<html lang="en"><head><meta charset="utf-8"><title>{html.escape(title)}: report</title>'
        f"<style>{STYLE}</style></head><body>{body}</body></html>\n"
    )


def _side(mesh: TriangleMesh, name: str, azimuth: float) -> str:
    encoded = io.BytesIO()
    picture = picture_of_mesh(mesh, PICTURE_PX, azimuth, turning=True)
    Image.fromarray(picture).save(encoded, "PNG", optimize=True)
    data = base64.b64encode(encoded.getvalue()).decode()
    return f'<figure><img alt="from the {name}" src="data:image/png;base64,{data}"><figcaption>{name}</figcaption></figure>'


def _surface_rows(summary: Mapping[str, Any]) -> list[tuple[str, str]]:
    mesh = summary["mesh"]
    rows = [
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


def _lengths(summary: Mapping[str, Any]) -> str:
    scale = summary.get("scale")
    said = "As the instrument measured; not checked with a caliper."
    if scale:
        by = "so that lengths are what a caliper read" if scale["by_caliper"] else "by a factor"
        said = f"Scaled by {(scale['factor'] - 1) * 100:+.3f} %, {by}."
    rows = []
    for one in summary.get("lengths", []):
        angle = one["kind"] == "angle"
        sign = "⌀ " if one["kind"] in ROUND else ""
        value = f"{one['value']:.2f}°" if angle else f"{sign}{one['value']:.3f} mm"
        sure = f"± {2 * one['sd']:.3f} mm (k = 2)" if one["sd"] else ""
        caliper = f"caliper {one['caliper_mm']:.2f} mm" if one["caliper_mm"] else ""
        rows.append((one["name"], value, sure, caliper))
    table = _table(rows, ("Name", "Value", "", "")) if rows else ""
    return f'<p class="quiet">{html.escape(said)}</p>{table}'


def _deviation_rows(told: Mapping[str, Any]) -> list[tuple[str, str]]:
    rows = [
        ("Against", told["against"]),
        ("Mean", f"{told['mean_mm']:+.3f} mm (outside positive)"),
        ("95 % within", f"{told['p95_mm']:.3f} mm"),
        ("Farthest", f"{told['max_mm']:.3f} mm"),
    ]
    if told["within_share"] is not None:
        rows.append(("In the band", f"{told['within_share'] * 100:.1f} % within ± {told['tolerance_mm']:g} mm"))
    return rows


def _passes(passes: Sequence[Mapping[str, Any]]) -> str:
    rows = []
    for scan in passes:
        frames = f"{sum(scan['frames_in'])} of {scan['frames']}" if scan["frames"] else "came as points"
        noise = f"{scan['noise_mm']:.3f} mm" if scan["noise_mm"] else ""
        fit = f"{scan['rms_mm']:.3f} mm" if scan["rms_mm"] is not None else ""
        where = "switched off" if scan.get("off") else "placed" if scan["placed"] else "not placed"
        rows.append((scan["title"], frames, noise, fit, where))
    return _table(rows, ("Pass", "Frames in", "Noise of a frame", "Residual after settling", ""))


def _table(rows: Sequence[Sequence[str]], head: Sequence[str] = ()) -> str:
    """A table; the first column is words, the others are figures."""
    cells = lambda row, tag: "".join(  # noqa: E731
        f"<{tag}{' class=n' if n else ''}>{html.escape(str(cell))}</{tag}>" for n, cell in enumerate(row)
    )
    top = f"<tr>{cells(head, 'th')}</tr>" if head else ""
    body = "".join(f"<tr>{cells(row, 'td')}</tr>" for row in rows)
    return f"<table{'' if head else ' class=facts'}>{top}{body}</table>"
