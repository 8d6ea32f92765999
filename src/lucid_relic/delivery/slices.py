"""Slices: the outlines of a surface in planes square to an axis, in millimetres, as drawings (SVG) or for CAD (DXF).

Each triangle that a plane cuts has one edge on which its border rises through it and one on which it falls: outlines run
from one to the next, so that the body lies on their left, and end only where the surface does.
"""

import html
from dataclasses import dataclass

import numpy as np

from lucid_relic.types import TriangleMesh

AXES = {"x": 0, "y": 1, "z": 2}
ACROSS = {"x": (1, 2), "y": (0, 2), "z": (0, 1)}  # the two axes that a slice is drawn in, to the right and up
NUDGE = 1e-6  # of the size: a plane through a vertex is moved by so much
MARGIN_MM = 5.0  # around a drawing
LINE_MM = 0.18
DXF_MM = 4  # millimetres, of $INSUNITS (DXF reference)


@dataclass(frozen=True)
class Slice:
    """at (mm) along the axis, and the outlines (n, 2) mm in it, each closed or not."""

    at: float
    outlines: tuple[tuple[np.ndarray, bool], ...]


def heights(mesh: TriangleMesh, axis: str, every_mm: float) -> np.ndarray:
    """Where planes lie so far apart, evenly about the middle of the mesh along an axis."""
    low, high = (float(f(mesh.vertices[:, AXES[axis]])) for f in (np.min, np.max))
    count = max(int((high - low) / every_mm), 1)
    return (low + high) / 2 + (np.arange(count) - (count - 1) / 2) * every_mm


def sliced(mesh: TriangleMesh, axis: str, at: float) -> Slice:
    """The outlines of a mesh in one plane."""
    own = mesh.vertices[:, AXES[axis]].astype(np.float64)
    off = own - at
    off[off == 0] = NUDGE * max(float(np.ptp(own)), 1.0)
    sides = off[mesh.faces] > 0
    cut = np.flatnonzero(sides.any(axis=1) & ~sides.all(axis=1))
    if not len(cut):
        return Slice(at, ())
    faces, above = mesh.faces[cut], sides[cut]
    after = np.roll(above, -1, axis=1)
    first = np.arange(len(cut))
    edges = [np.argmax(above & ~after, axis=1), np.argmax(~above & after, axis=1)]
    if axis == "y":  # drawn as it is seen from the front, against the axis
        edges.reverse()
    begin, end = (_crossed(mesh, faces, first, edge, off, ACROSS[axis]) for edge in edges)
    keys = [_keys(faces, first, edge, len(mesh.vertices)) for edge in edges]
    order = np.argsort(keys[0])
    found = np.searchsorted(keys[0][order], keys[1])
    inside = found < len(order)
    following = np.full(len(cut), -1)
    match = order[np.minimum(found, len(order) - 1)]
    same = inside & (keys[0][match] == keys[1])
    following[same] = match[same]
    return Slice(at, tuple(_walked(begin, end, following)))


def _crossed(
    mesh: TriangleMesh, faces: np.ndarray, first: np.ndarray, edge: np.ndarray, off: np.ndarray, across: tuple[int, int]
) -> np.ndarray:
    """(n, 2) where one edge of each triangle crosses the plane."""
    a, b = faces[first, edge], faces[first, (edge + 1) % 3]
    share = (off[a] / (off[a] - off[b]))[:, None]
    p, q = (mesh.vertices[ends][:, list(across)].astype(np.float64) for ends in (a, b))
    return p + share * (q - p)


def _keys(faces: np.ndarray, first: np.ndarray, edge: np.ndarray, count: int) -> np.ndarray:
    a, b = faces[first, edge].astype(np.int64), faces[first, (edge + 1) % 3].astype(np.int64)
    return np.minimum(a, b) * count + np.maximum(a, b)


def _walked(begin: np.ndarray, end: np.ndarray, following: np.ndarray) -> list[tuple[np.ndarray, bool]]:
    """Pieces joined to outlines: first those that begin where nothing leads to, then the closed ones."""
    led_to = np.zeros(len(begin), bool)
    led_to[following[following >= 0]] = True
    left = np.ones(len(begin), bool)
    out = []
    for start in (*np.flatnonzero(~led_to), *np.flatnonzero(led_to)):
        if not left[start]:
            continue
        path, at = [begin[start]], int(start)
        while at >= 0 and left[at]:
            left[at] = False
            path.append(end[at])
            at = int(following[at])
        closed = at == start
        out.append((np.array(path[:-1] if closed else path), closed))
    return out


def slices_svg(slices: list[Slice], axis: str, title: str) -> str:
    """A drawing at its true size, a group for each slice."""
    points = [p for s in slices for p, _ in s.outlines]
    low, high = (f(np.concatenate(points), axis=0) for f in (np.min, np.max))
    width, height = high - low + 2 * MARGIN_MM
    groups = []
    for s in slices:
        paths = "".join(f'<path d="{_path(p, closed, low, high)}"/>' for p, closed in s.outlines)
        groups.append(f'<g id="{axis}_{s.at:+.3f}"><title>{axis} {s.at:+.3f} mm</title>{paths}</g>')
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{width:.3f}mm" height="{height:.3f}mm" '
        f'viewBox="0 0 {width:.3f} {height:.3f}" fill="none" stroke="#1d2b3a" stroke-width="{LINE_MM}">'
        f"<title>{html.escape(title)}</title>{''.join(groups)}</svg>\n"
    )


def _path(points: np.ndarray, closed: bool, low: np.ndarray, high: np.ndarray) -> str:
    """An outline with the upper edge of the drawing at 0."""
    x, y = points[:, 0] - low[0] + MARGIN_MM, high[1] - points[:, 1] + MARGIN_MM
    return "M" + "L".join(f"{a:.4f} {b:.4f}" for a, b in zip(x, y, strict=True)) + ("Z" if closed else "")


def slices_dxf(slices: list[Slice], axis: str) -> str:
    """Polylines in millimetres (DXF of release 12), a layer for each slice, each at its own elevation."""
    rows: list[tuple[int, object]] = [
        (0, "SECTION"), (2, "HEADER"), (9, "$ACADVER"), (1, "AC1009"), (9, "$INSUNITS"), (70, DXF_MM), (0, "ENDSEC"),
        (0, "SECTION"), (2, "ENTITIES"),
    ]  # fmt: skip
    for s in slices:
        layer = f"{axis}_{s.at:+.3f}".replace("+", "P").replace("-", "M").replace(".", "_")
        for points, closed in s.outlines:
            rows += [(0, "POLYLINE"), (8, layer), (66, 1), (70, int(closed)), (10, 0.0), (20, 0.0), (30, f"{s.at:.4f}")]
            for x, y in points:
                rows += [(0, "VERTEX"), (8, layer), (10, f"{x:.5f}"), (20, f"{y:.5f}"), (30, f"{s.at:.4f}")]
            rows += [(0, "SEQEND"), (8, layer)]
    rows += [(0, "ENDSEC"), (0, "EOF")]
    return "".join(f"{code:>3}\n{value}\n" for code, value in rows)
