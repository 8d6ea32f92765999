"""A mesh's surface in a square: cut into charts (`charts`), laid flat (`flat`), joined (`joining`), packed (`packing`)."""

from dataclasses import dataclass

import numpy as np

from lucid_relic.colour.charts import cut_charts, face_neighbours, smoothed
from lucid_relic.colour.flat import (
    cut_folds,
    density_evened,
    looked_along,
    relaxed,
    signed_area,
    true_shapes,
    where_it_folds_less,
)
from lucid_relic.colour.joining import joined
from lucid_relic.colour.packing import packed
from lucid_relic.errors import StepNotPossible
from lucid_relic.progress import Progress, part_of, silent
from lucid_relic.types import TriangleMesh


@dataclass(frozen=True)
class Atlas:
    """uv (m, 3, 2) float64 in texels (centres at integers), chart (m,) of each face, texel size mm.

    fill is the share (0-1) of the square that triangles cover.
    """

    uv: np.ndarray
    chart: np.ndarray
    size: int
    texel_mm: float
    fill: float


def make_atlas(mesh: TriangleMesh, size: int, progress: Progress = silent) -> Atlas:
    """Lay all triangles of a mesh into a square of `size` texels without overlap."""
    if not len(mesh.faces):
        raise StepNotPossible("There is no mesh to lay colour on yet. Fuse first.")
    progress(0.0, "Cutting charts")
    neighbours = face_neighbours(mesh.faces)
    area = np.linalg.norm(mesh.face_normals(), axis=1) / 2
    smooth = smoothed(mesh)
    chart = cut_charts(smooth, neighbours, area)
    progress(0.1, "Laying charts flat")
    flat = looked_along(smooth, chart, area)
    flat = where_it_folds_less(relaxed(flat, mesh.faces, *true_shapes(mesh), chart), flat, chart, area)
    flat, chart = joined(flat, mesh, chart, neighbours, area, part_of(progress, 0.2, 0.5))
    progress(0.5, "Cutting folds apart")
    flat, chart = cut_folds(flat, chart, neighbours, area)
    flat = density_evened(flat, chart, area)
    uv = packed(flat, chart, neighbours, size, part_of(progress, 0.55, 1.0))
    covered = np.abs(signed_area(uv)).sum()
    texel = np.sqrt(area.sum() / max(covered, 1e-12))
    return Atlas(uv, chart, size, float(texel), float(covered / size**2))
