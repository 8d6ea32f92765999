"""3MF core specification 1.x, with colours by its materials extension: a zip of XML, in millimetres."""

import io
import zipfile
from array import array
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import numpy as np

from lucid_relic.errors import InputError
from lucid_relic.io.files import replacing
from lucid_relic.io.formats.base import Format, merged
from lucid_relic.types import UNITS_MM, TriangleMesh

# Units of the core specification (3.4) in millimetres.
UNITS = {"micron": 0.001, "millimeter": 1.0, "centimeter": 10.0, "inch": UNITS_MM["in"], "foot": 304.8, "meter": 1000.0}
MOST_MODEL_BYTES = 2 * 1024**3  # of the unpacked model
MOST_RATIO = 200  # of unpacked to packed: text of numbers shrinks ten times
MOST_DEPTH = 8  # of components within components
MOST_PARTS, MOST_PLACED = 10_000, 20_000_000  # objects and vertices that components may repeat

CONTENT_TYPES = """<?xml version="1.0" encoding="UTF-8"?>
<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types">
<Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/>
<Default Extension="model" ContentType="application/vnd.ms-package.3dmanufacturing-3dmodel+xml"/></Types>"""
RELATIONS = """<?xml version="1.0" encoding="UTF-8"?>
<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships">
<Relationship Target="/3D/3dmodel.model" Id="rel0"
 Type="http://schemas.microsoft.com/3dmanufacturing/2013/01/3dmodel"/></Relationships>"""
MATERIALS = "http://schemas.microsoft.com/3dmanufacturing/material/2015/02"
HEAD = f"""<?xml version="1.0" encoding="UTF-8"?>
<model unit="millimeter" xml:lang="en-GB" xmlns="http://schemas.microsoft.com/3dmanufacturing/core/2015/02"
 xmlns:m="{MATERIALS}">
<resources>"""
BODY = """<object id="1" type="model"><mesh><vertices>
"""
COLOUR_BITS = 5  # of a channel that are kept of vertex colours: a printer's inks tell no more apart
TAIL = '</triangles></mesh></object></resources><build><item objectid="1"/></build></model>'


def write_3mf(path: Path, mesh: TriangleMesh) -> list[Path]:
    """Write a mesh, with a colour for every vertex where it has them; z is up and the unit is the millimetre."""
    model = io.StringIO()
    model.write(HEAD)
    palette, index = _palette(mesh.colours)
    if len(palette):
        model.write('<m:colorgroup id="2">\n')
        np.savetxt(model, palette, '<m:color color="#%02X%02X%02XFF"/>')
        model.write("</m:colorgroup>")
    model.write(BODY)
    np.savetxt(model, mesh.vertices, '<vertex x="%.5f" y="%.5f" z="%.5f"/>')
    model.write("</vertices><triangles>\n")
    if len(palette):
        rows = np.concatenate([mesh.faces, index[mesh.faces]], axis=1)
        np.savetxt(model, rows, '<triangle v1="%d" v2="%d" v3="%d" pid="2" p1="%d" p2="%d" p3="%d"/>')
    else:
        np.savetxt(model, mesh.faces, '<triangle v1="%d" v2="%d" v3="%d"/>')
    model.write(TAIL)
    with replacing(path) as out, zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as bundle:
        bundle.writestr("[Content_Types].xml", CONTENT_TYPES)
        bundle.writestr("_rels/.rels", RELATIONS)
        bundle.writestr("3D/3dmodel.model", model.getvalue())
    return [path]


def _palette(colours: np.ndarray | None) -> tuple[np.ndarray, np.ndarray]:
    """Colours (k, 3) uint8 that are named in the file, and which (n,) each vertex has; none without colours."""
    if colours is None:
        return np.empty((0, 3), np.uint8), np.empty(0, np.int64)
    step = 2 ** (8 - COLOUR_BITS)
    kept = np.minimum((colours.astype(int) + step // 2) // step * step, 255).astype(np.uint8)
    palette, index = np.unique(kept, axis=0, return_inverse=True)
    return palette, index.reshape(-1)


def read_3mf(path: Path) -> TriangleMesh:
    """Read all that a file builds as one mesh in millimetres; colours are left.

    Raises `InputError` for a file without a model or one that names objects it does not hold.
    """
    with zipfile.ZipFile(path) as bundle:
        models = [e for e in bundle.infolist() if e.filename.lower().endswith(".model")]
        if not models:
            raise InputError(f"{path.name}: there is no model in this .3mf file")
        entry = next((e for e in models if e.filename.lower() == "3d/3dmodel.model"), models[0])
        if entry.file_size > min(MOST_MODEL_BYTES, MOST_RATIO * max(entry.compress_size, 1024)):
            raise InputError(
                f"{path.name}: its model would unpack to {entry.file_size / 1e9:.1f} GB, more than text shrinks"
            )
        with bundle.open(entry) as source:
            unit, objects, items = _model(source)
    if unit not in UNITS:
        raise InputError(f"{path.name}: the unit “{unit[:20]}” is none of the format's")
    parts: list[tuple[np.ndarray, np.ndarray]] = []
    for name, motion in items or [(name, np.eye(4)) for name in objects]:
        parts += _placed(path, objects, name, motion, 0)
    if not sum(len(f) for _, f in parts):
        raise InputError(f"{path.name}: there are no triangles in this file")
    first = np.cumsum([0, *(len(v) for v, _ in parts)])
    vertices = np.concatenate([v for v, _ in parts]) * UNITS[unit]
    faces = np.concatenate([f + begin for (_, f), begin in zip(parts, first, strict=False)])
    if faces.min() < 0 or faces.max() >= len(vertices):
        raise InputError(f"{path.name}: a triangle names a vertex that does not exist")
    return merged(TriangleMesh(vertices.astype(np.float32), faces.astype(np.int32)))


def _model(source: Any) -> tuple[str, dict[str, Any], list[tuple[str, np.ndarray]]]:
    """The unit, per object its vertices, triangles and components, and what is built of them, read as it streams by."""
    unit, objects, items = "millimeter", {}, []
    vertices, triangles = array("d"), array("q")
    components: list[tuple[str, np.ndarray]] = []
    for event, node in ElementTree.iterparse(source, events=("start", "end")):
        name = node.tag.rsplit("}", 1)[-1]
        if event == "start":
            unit = node.get("unit", unit) if name == "model" else unit
            continue
        if name == "vertex":
            vertices.extend(float(node.get(axis)) for axis in "xyz")
        elif name == "triangle":
            triangles.extend(int(node.get(corner)) for corner in ("v1", "v2", "v3"))
        elif name == "component":
            components.append((node.get("objectid"), _motion(node.get("transform"))))
        elif name == "item":
            items.append((node.get("objectid"), _motion(node.get("transform"))))
        elif name == "object":
            own = np.array(vertices).reshape(-1, 3), np.array(triangles).reshape(-1, 3)
            objects[node.get("id")] = (*own, components)
            vertices, triangles, components = array("d"), array("q"), []
        node.clear()
    return unit, objects, items


def _motion(text: str | None) -> np.ndarray:
    """(4, 4) of a transform's twelve numbers, which stand by columns (core specification, 3.3)."""
    motion = np.eye(4)
    if text:
        motion[:3] = np.array([float(t) for t in text.split()]).reshape(4, 3).T
    return motion


def _placed(
    path: Path, objects: dict[str, Any], name: str, motion: np.ndarray, depth: int
) -> list[tuple[np.ndarray, np.ndarray]]:
    """Vertices and triangles of an object and of all it is put together from, moved."""
    if name not in objects or depth > MOST_DEPTH:
        raise InputError(f"{path.name}: the model builds an object that it does not hold")
    vertices, triangles, components = objects[name]
    parts = [(vertices @ motion[:3, :3].T + motion[:3, 3], triangles)] if len(vertices) else []
    for part, inner in components:
        parts += _placed(path, objects, part, motion @ inner, depth + 1)
        if sum(len(v) for v, _ in parts) > MOST_PLACED or len(parts) > MOST_PARTS:
            raise InputError(f"{path.name}: the model repeats its objects more often than is read")
    return parts


THREEMF = Format(
    name="3mf",
    suffixes=("3mf",),
    help="shape in millimetres, for print",
    carries=frozenset({"shape", "unit"}),
    read_mesh=read_3mf,
    write_mesh=write_3mf,
    unit="mm",
)
