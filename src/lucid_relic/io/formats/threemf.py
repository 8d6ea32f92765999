"""3MF core specification 1.x: a zip of XML, in millimetres."""

import io
import zipfile
from pathlib import Path

import numpy as np

from lucid_relic.io.files import replacing
from lucid_relic.io.formats.base import Format
from lucid_relic.types import TriangleMesh

CONTENT_TYPES = """<?xml version="1.0" encoding="UTF-8"?>
<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types">
<Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/>
<Default Extension="model" ContentType="application/vnd.ms-package.3dmanufacturing-3dmodel+xml"/></Types>"""
RELATIONS = """<?xml version="1.0" encoding="UTF-8"?>
<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships">
<Relationship Target="/3D/3dmodel.model" Id="rel0"
 Type="http://schemas.microsoft.com/3dmanufacturing/2013/01/3dmodel"/></Relationships>"""
HEAD = """<?xml version="1.0" encoding="UTF-8"?>
<model unit="millimeter" xml:lang="en-GB" xmlns="http://schemas.microsoft.com/3dmanufacturing/core/2015/02">
<resources><object id="1" type="model"><mesh><vertices>
"""
TAIL = '</triangles></mesh></object></resources><build><item objectid="1"/></build></model>'


def write_3mf(path: Path, mesh: TriangleMesh) -> list[Path]:
    """Write the shape of a mesh; z is up and the unit is the millimetre."""
    model = io.StringIO()
    model.write(HEAD)
    np.savetxt(model, mesh.vertices, '<vertex x="%.5f" y="%.5f" z="%.5f"/>')
    model.write("</vertices><triangles>\n")
    np.savetxt(model, mesh.faces, '<triangle v1="%d" v2="%d" v3="%d"/>')
    model.write(TAIL)
    with replacing(path) as out, zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as bundle:
        bundle.writestr("[Content_Types].xml", CONTENT_TYPES)
        bundle.writestr("_rels/.rels", RELATIONS)
        bundle.writestr("3D/3dmodel.model", model.getvalue())
    return [path]


THREEMF = Format(
    name="3mf",
    suffixes=("3mf",),
    help="shape in millimetres, for print",
    carries=frozenset({"shape", "unit"}),
    write_mesh=write_3mf,
)
