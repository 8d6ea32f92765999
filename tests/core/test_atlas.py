"""The atlas: charts that hang together, lie flat with little stretch, are joined where they can, and are packed tightly."""

import numpy as np
import pytest
from scenes import grid_plane, knot_field, torus, uv_sphere

from lucid_relic.colour import joining
from lucid_relic.colour.atlas import Atlas, make_atlas
from lucid_relic.colour.charts import face_neighbours
from lucid_relic.colour.flat import looked_along, stretch, true_shapes
from lucid_relic.demo.shapes import mesh_of
from lucid_relic.errors import Cancelled, StepNotPossible
from lucid_relic.inspection.mesh_check import face_components
from lucid_relic.types import TriangleMesh

BALL = uv_sphere(20, 48, 96)


def rolled_sheet() -> TriangleMesh:
    """A sheet of 40 × 30 mm, bent to a part of a cylinder of 25 mm radius."""
    sheet = grid_plane(40, 30, 1.0)
    x, y, _ = sheet.vertices.T.astype(float)
    return TriangleMesh(np.stack([25 * np.sin(x / 25), y, 25 * np.cos(x / 25)], axis=1).astype(np.float32), sheet.faces)


def most_triangles_in_a_texel(atlas: Atlas) -> int:
    """Paint every triangle once and count at the texels' centres."""
    seen = np.zeros((atlas.size, atlas.size), np.int32)
    for p in atlas.uv:
        x0, y0 = np.floor(p.min(axis=0)).astype(int)
        x1, y1 = np.ceil(p.max(axis=0)).astype(int) + 1
        y, x = np.mgrid[y0:y1, x0:x1]
        a, b = p[1] - p[0], p[2] - p[0]
        det = a[0] * b[1] - a[1] * b[0]
        s = ((x - p[0, 0]) * b[1] - (y - p[0, 1]) * b[0]) / det
        t = (a[0] * (y - p[0, 1]) - a[1] * (x - p[0, 0])) / det
        seen[y0:y1, x0:x1] += (s > 1e-4) & (t > 1e-4) & (s + t < 1 - 1e-4)
    return int(seen.max())


@pytest.mark.parametrize("mesh", [uv_sphere(20, 96, 192), torus(20, 7, 160, 80)], ids=["ball", "torus"])
def test_charts_are_few_packed_tightly_and_do_not_overlap(mesh: TriangleMesh) -> None:
    size = 1024
    atlas = make_atlas(mesh, size)
    assert atlas.fill > 0.7 and len(np.unique(atlas.chart)) <= 60
    assert atlas.uv.min() >= 0 and atlas.uv.max() <= size - 1
    assert most_triangles_in_a_texel(atlas) == 1


def test_charts_hang_together_and_keep_their_scale() -> None:
    mesh = torus(20, 7, 96, 48)
    atlas = make_atlas(mesh, 512)
    for c in np.unique(atlas.chart):
        assert face_components(mesh.faces[atlas.chart == c])[0] == 1
    a, b = atlas.uv[:, 1] - atlas.uv[:, 0], atlas.uv[:, 2] - atlas.uv[:, 0]
    flat = np.abs(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]) / 2
    real = np.linalg.norm(mesh.face_normals(), axis=1) / 2 / atlas.texel_mm**2
    assert np.median(flat / real) == pytest.approx(1, abs=0.15) and (flat / real).min() > 0.2


def stretches(mesh: TriangleMesh, atlas: Atlas) -> np.ndarray:
    """(m,) how many times longer a triangle is drawn along its most stretched direction than across it."""
    p = mesh.corners.astype(float)
    real = np.stack([p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]], axis=2)
    flat = np.stack([atlas.uv[:, 1] - atlas.uv[:, 0], atlas.uv[:, 2] - atlas.uv[:, 0]], axis=2)
    drawn = np.linalg.svd(flat @ np.linalg.pinv(real), compute_uv=False)
    return drawn[:, 0] / drawn[:, 1]


def test_a_sheet_that_is_only_bent_is_laid_flat_without_stretch() -> None:
    rolled = rolled_sheet()
    assert stretches(rolled, make_atlas(rolled, 512)).max() < 1.03


def test_relief_is_drawn_with_little_stretch() -> None:
    mesh = mesh_of(knot_field, (-30, -34, -4), (30, 30, 62), 1.0)
    atlas = make_atlas(mesh, 1024)
    ratio, area = stretches(mesh, atlas), np.linalg.norm(mesh.face_normals(), axis=1)
    order = np.argsort(ratio)
    share = np.cumsum(area[order]) / area.sum()
    middle, most = (ratio[order][np.searchsorted(share, s)] for s in (0.5, 0.95))
    assert middle < 1.03 and most < 1.15 and atlas.fill > 0.7
    assert most_triangles_in_a_texel(atlas) == 1


def test_noise_that_turns_slivers_over_neither_frays_the_charts_nor_lays_them_on_each_other() -> None:
    mesh = mesh_of(knot_field, (-30, -34, -4), (30, 30, 62), 1.5)
    rough = mesh.vertices + 0.05 * np.random.default_rng(4).normal(size=mesh.vertices.shape)
    rough_mesh = TriangleMesh(rough.astype(np.float32), mesh.faces)
    smooth, atlas = make_atlas(mesh, 1024), make_atlas(rough_mesh, 1024)
    assert len(np.unique(atlas.chart)) < 1.5 * len(np.unique(smooth.chart))
    assert most_triangles_in_a_texel(atlas) == 1


def test_neighbours_meet_at_their_sides() -> None:
    neighbours = face_neighbours(BALL.faces)
    assert (neighbours >= 0).all()
    shared = [len(np.intersect1d(BALL.faces[f], BALL.faces[n])) for f in range(40) for n in neighbours[f]]
    assert set(shared) == {2}


def test_a_texture_too_small_for_the_charts_is_refused() -> None:
    with pytest.raises(StepNotPossible, match="larger texture"):
        make_atlas(uv_sphere(20, 96, 192), 8)


def laid_apart(mesh: TriangleMesh, chart: np.ndarray) -> np.ndarray:
    """(m, 3, 2) every chart looked at along its mean normal, turned and moved by chance."""
    rng = np.random.default_rng(2)
    flat = looked_along(mesh, chart, face_areas(mesh))
    for c in np.unique(chart):
        angle = rng.uniform(0, 2 * np.pi)
        turn = np.array([[np.cos(angle), -np.sin(angle)], [np.sin(angle), np.cos(angle)]])
        flat[chart == c] = flat[chart == c] @ turn.T + rng.uniform(-50, 50, 2)
    return flat


def face_areas(mesh: TriangleMesh) -> np.ndarray:
    return np.linalg.norm(mesh.face_normals(), axis=1) / 2


def test_charts_of_a_sheet_that_is_only_bent_are_all_joined_without_stretch(monkeypatch) -> None:
    monkeypatch.setattr(joining, "FEWEST", 1)
    monkeypatch.setattr(joining, "LARGEST_SHARE", 1.0)
    sheet = rolled_sheet()
    middle = sheet.corners.mean(axis=1)
    around = np.arctan2(middle[:, 0], middle[:, 2])
    strips = np.digitize(around, np.quantile(around, [0.2, 0.4, 0.6, 0.8]))
    chart = 2 * strips + (middle[:, 1] > np.median(middle[:, 1]))
    flat, chart = joining.joined(
        laid_apart(sheet, chart), sheet, chart, face_neighbours(sheet.faces), face_areas(sheet)
    )
    assert chart.max() == 0
    assert stretch(flat, true_shapes(sheet)[0]).max() < 1.03


def test_the_sides_of_a_cube_at_a_corner_are_not_all_joined(monkeypatch) -> None:
    # Three squares at a corner leave a right angle open when laid flat: two can lie together, the third cannot.
    monkeypatch.setattr(joining, "FEWEST", 1)
    monkeypatch.setattr(joining, "LARGEST_SHARE", 1.0)
    side = grid_plane(8, 8, 1.0)
    turned = [np.roll(side.vertices, k, axis=1) for k in range(3)]
    corners, at = np.unique(np.concatenate(turned).round(6), axis=0, return_inverse=True)
    faces = at[np.concatenate([side.faces + k * len(side.vertices) for k in range(3)])].astype(np.int32)
    corner = TriangleMesh(corners, faces)
    chart = np.repeat(np.arange(3), len(side.faces))
    _, joint = joining.joined(
        laid_apart(corner, chart), corner, chart, face_neighbours(corner.faces), face_areas(corner)
    )
    assert len(np.unique(joint)) == 2


def test_stretch_is_the_largest_way_a_triangle_is_drawn_too_long_or_too_short() -> None:
    sheet = grid_plane(4, 3, 1.0)
    sides, _ = true_shapes(sheet)
    drawn = sheet.corners[:, :, :2].astype(float)
    turn = np.array([[0.6, -0.8], [0.8, 0.6]])
    for factors, expected in (((1, 1), 1.0), ((1.5, 1), 1.5), ((1, 0.5), 2.0), ((1.2, 0.8), 1.25)):
        assert stretch(drawn * factors @ turn.T, sides) == pytest.approx(expected)
    assert stretch(drawn * [1, -1], sides) == pytest.approx(10.0)


@pytest.mark.parametrize("size", [256, 1024, 2048])
def test_no_texel_is_asked_by_two_charts(size: int) -> None:
    # A place between texels takes its colour from the four around it; none of them may belong to another chart.
    atlas = make_atlas(torus(20, 7, 96, 48), size)
    share = np.random.default_rng(1).dirichlet([0.5, 0.5, 0.5], 400)
    share = np.concatenate([share, np.eye(3), (np.eye(3) + np.roll(np.eye(3), 1, axis=0)) / 2])
    places = np.einsum("sc,mck->msk", share, atlas.uv)
    owner = np.full((size, size), -1)
    for c in np.unique(atlas.chart):
        x, y = places[atlas.chart == c].reshape(-1, 2).T
        for u, v in (
            (np.floor(x), np.floor(y)),
            (np.ceil(x), np.floor(y)),
            (np.floor(x), np.ceil(y)),
            (np.ceil(x), np.ceil(y)),
        ):
            asked = v.astype(int), u.astype(int)
            assert np.isin(owner[asked], (-1, c)).all()
            owner[asked] = c


def test_a_mesh_of_few_triangles_has_an_atlas() -> None:
    corners = np.array([[x, y, z] for x in (0, 10) for y in (0, 10) for z in (0, 10)], np.float32)
    sides = [(0, 1, 3, 2), (4, 6, 7, 5), (0, 4, 5, 1), (2, 3, 7, 6), (0, 2, 6, 4), (1, 5, 7, 3)]
    cube = TriangleMesh(corners, np.array([t for a, b, c, d in sides for t in ((a, b, c), (a, c, d))], np.int32))
    atlas = make_atlas(cube, 128)
    assert most_triangles_in_a_texel(atlas) == 1
    assert stretches(cube, atlas).max() == pytest.approx(1.0, abs=1e-6)


def test_it_tells_how_far_it_is_and_stops_when_asked() -> None:
    told: list[tuple[float, str]] = []
    mesh = torus(20, 7, 96, 48)
    make_atlas(mesh, 256, lambda share, words: told.append((share, words)))
    shares = [share for share, _ in told]
    assert shares == sorted(shares) and shares[0] == 0 and 0.55 < shares[-1] <= 1

    def stop(share: float, words: str) -> None:
        if words == "Packing charts":
            raise Cancelled

    with pytest.raises(Cancelled):
        make_atlas(mesh, 256, stop)
