"""USDZ: one textured surface for rooms seen through a telephone.

A USDZ file is a zip of stored files, each beginning at a multiple of 64 bytes, the stage first ("USDZ File Format Specification", openusd.org). The stage is
text: metres, y up, one mesh with a `UsdPreviewSurface`.
"""

import io
import zipfile
from pathlib import Path

import numpy as np
from PIL import Image

from lucid_relic.geometry.seam_split import seam_split
from lucid_relic.io.files import replacing
from lucid_relic.light.srgb import to_linear
from lucid_relic.types import TriangleMesh

MM_TO_M = 0.001
ALIGNED = 64  # bytes, by the specification
HEADER = 30  # bytes of a zip's local header before the name
PADDING = 0x1986  # id of an extra field that nobody reads
WHEN = (1980, 1, 1, 0, 0, 0)  # the same content gives the same bytes
JPEG_QUALITY = 92
STAGE, PICTURE = "object.usda", "textures/colour.jpg"


def usdz_bytes(mesh: TriangleMesh) -> bytes:
    """A mesh as USDZ, textured or with vertex colours where it has them."""
    texture, roughness = mesh.texture, mesh.roughness
    split, uv = seam_split(mesh)
    files = {STAGE: _stage(split, uv, roughness).encode()}
    if texture is not None:
        picture = io.BytesIO()
        Image.fromarray(texture.image).save(picture, "JPEG", quality=JPEG_QUALITY, subsampling=0)
        files[PICTURE] = picture.getvalue()
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as archive:
        for name, data in files.items():
            entry = zipfile.ZipInfo(name, WHEN)
            begins = out.tell() + HEADER + len(name)
            # A field has four bytes of its own.
            pad = (-begins - 4) % ALIGNED
            entry.extra = PADDING.to_bytes(2, "little") + pad.to_bytes(2, "little") + bytes(pad)
            archive.writestr(entry, data)
    return out.getvalue()


def write_usdz(path: Path, mesh: TriangleMesh) -> list[Path]:
    """Write a mesh as USDZ; what was written."""
    with replacing(path) as out:
        out.write(usdz_bytes(mesh))
    return [path]


def _rows(values: np.ndarray) -> str:
    """Numbers (n,), or tuples (n, k), as a list of the text format."""
    if values.ndim == 1:
        return f"[{', '.join(map(str, values.tolist()))}]"
    text = io.StringIO()
    np.savetxt(text, values, fmt=f"({', '.join(['%.7g'] * values.shape[1])})", newline=", ")
    return f"[{text.getvalue()[:-2]}]"


def _stage(mesh: TriangleMesh, uv: np.ndarray | None, roughness: float) -> str:
    upright = np.array([1, 1, -1])
    points = mesh.vertices[:, [0, 2, 1]] * upright * MM_TO_M
    normals = mesh.vertex_normals()[:, [0, 2, 1]] * upright
    extra, diffuse, shaders = "", "color3f inputs:diffuseColor = (0.5, 0.5, 0.5)", ""
    if uv is not None:
        extra = f'texCoord2f[] primvars:st = {_rows(uv)} (interpolation = "vertex")'
        diffuse = "color3f inputs:diffuseColor.connect = </Object/Looks/Surface/Colour.outputs:rgb>"
        shaders = f"""
            def Shader "Colour"
            {{
                uniform token info:id = "UsdUVTexture"
                asset inputs:file = @{PICTURE}@
                token inputs:sourceColorSpace = "sRGB"
                token inputs:wrapS = "clamp"
                token inputs:wrapT = "clamp"
                float2 inputs:st.connect = </Object/Looks/Surface/Places.outputs:result>
                float3 outputs:rgb
            }}

            def Shader "Places"
            {{
                uniform token info:id = "UsdPrimvarReader_float2"
                string inputs:varname = "st"
                float2 outputs:result
            }}
"""
    elif mesh.colours is not None:
        extra = f'color3f[] primvars:displayColor = {_rows(to_linear(mesh.colours))} (interpolation = "vertex")'
        diffuse = "color3f inputs:diffuseColor.connect = </Object/Looks/Surface/Colour.outputs:result>"
        shaders = """
            def Shader "Colour"
            {
                uniform token info:id = "UsdPrimvarReader_float3"
                string inputs:varname = "displayColor"
                float3 outputs:result
            }
"""
    return f"""#usda 1.0
(
    defaultPrim = "Object"
    metersPerUnit = 1
    upAxis = "Y"
)

def Xform "Object" (
    kind = "component"
)
{{
    def Mesh "Surface" (
        prepend apiSchemas = ["MaterialBindingAPI"]
    )
    {{
        float3[] extent = {_rows(np.stack([points.min(axis=0), points.max(axis=0)]))}
        int[] faceVertexCounts = {_rows(np.full(len(mesh.faces), 3))}
        int[] faceVertexIndices = {_rows(mesh.faces.ravel())}
        rel material:binding = </Object/Looks/Surface>
        normal3f[] normals = {_rows(normals)} (interpolation = "vertex")
        point3f[] points = {_rows(points)}
        {extra}
        uniform token subdivisionScheme = "none"
    }}

    def Scope "Looks"
    {{
        def Material "Surface"
        {{
            token outputs:surface.connect = </Object/Looks/Surface/Preview.outputs:surface>

            def Shader "Preview"
            {{
                uniform token info:id = "UsdPreviewSurface"
                {diffuse}
                float inputs:metallic = 0
                float inputs:roughness = {roughness:.4g}
                token outputs:surface
            }}
{shaders}        }}
    }}
}}
"""
