"""A texture that is kept where a mesh is patched: what was there stays to the bit, patches go on in its colours."""

from dataclasses import replace

import numpy as np
import pytest
import trimesh

from lucid_relic.colour import patched
from lucid_relic.colour.atlas import make_atlas
from lucid_relic.colour.lay import shares
from lucid_relic.light.srgb import to_linear, to_srgb
from lucid_relic.operations import get_operation
from lucid_relic.operations.chosen import marked_of
from lucid_relic.progress import silent
from lucid_relic.types import BallStroke, Marks, ScanState, Texture, TriangleMesh

SIDE = 512


def colour_of(places: np.ndarray) -> np.ndarray:
    """A smooth paint (n, 3) uint8 of places (n, 3) on a ball of 20 mm."""
    return np.clip(128 + 5 * places, 0, 255).round().astype(np.uint8)


@pytest.fixture(scope="module")
def ball() -> TriangleMesh:
    """A painted ball whose charts an atlas laid."""
    made = trimesh.creation.icosphere(4, 20)
    mesh = TriangleMesh(made.vertices.astype(np.float32), made.faces.astype(np.int32))
    uv = make_atlas(mesh, SIDE).uv
    image = np.zeros((SIDE, SIDE, 3), np.uint8)
    owner = np.full((SIDE, SIDE), -1, np.int32)
    patched._view_kernels.rasterise(patched_wide(uv), owner)
    rows, columns = np.nonzero(owner >= 0)
    face = owner[rows, columns]
    part = shares(uv[face], np.stack([columns, rows], axis=1))
    image[rows, columns] = colour_of(np.einsum("nk,nkc->nc", part, mesh.corners[face].astype(float)))
    laid = np.stack([(uv[..., 0] + 0.5) / SIDE, 1 - (uv[..., 1] + 0.5) / SIDE], axis=-1).astype(np.float32)
    return replace(mesh, texture=Texture(image, laid, 1.0, np.zeros((SIDE, SIDE), bool)))


def patched_wide(uv: np.ndarray) -> np.ndarray:
    """Triangles grown by two texels, so that filtering at their borders finds paint."""
    away = uv - uv.mean(axis=1, keepdims=True)
    return uv + 4 * away / np.maximum(np.linalg.norm(away, axis=2, keepdims=True), 1e-9)


def shown(mesh: TriangleMesh, faces: np.ndarray, part: np.ndarray) -> np.ndarray:
    """Colours (n, 3) at corner shares (3,) of faces, as the texture shows them."""
    return mesh.texture.at(np.einsum("k,nkc->nc", part, mesh.texture.uv[faces])).astype(int)


def run(name: str, mesh: TriangleMesh, **parameters: object) -> TriangleMesh:
    operation = get_operation(name)
    return operation.run(ScanState(mesh=mesh), operation.parameters(**parameters), silent)[0].mesh


PARTS = ([0.6, 0.3, 0.1], [0.2, 0.2, 0.6], [1.0, 0.0, 0.0])
MIDDLE = ([1 / 3, 1 / 3, 1 / 3],)


def patch_goes_on(
    before: TriangleMesh, name: str, parts: tuple[list[float], ...] = PARTS, **how: object
) -> TriangleMesh:
    """The texture of a mesh after a step: as it was where it was, on patches as the same step has colours flow in."""
    after, plain = run(name, before, **how), run(name, patched.in_vertex_colours(before), **how)
    before = before.select_faces(~marked_of(before, how["marks"])) if "marks" in how else before
    kept = len(before.faces)
    assert np.array_equal(after.texture.uv[:kept], before.texture.uv) and len(after.texture.uv) == len(after.faces)
    assert after.colours is None and after.made_up[kept:].all()
    for part in parts:
        old = np.arange(kept)
        change = np.abs(shown(after, old, np.array(part)) - shown(before, old, np.array(part)))
        assert change.max() == 0, "charts show what they showed"
        new = np.arange(kept, len(after.faces))
        true = to_srgb(np.einsum("k,nkc->nc", part, to_linear(plain.colours[plain.faces[new]])))
        assert np.abs(shown(after, new, np.array(part)) - true.astype(int)).max() <= 3
    return after


def test_healing_keeps_the_texture_and_paints_the_patch_from_around(ball: TriangleMesh) -> None:
    mark = Marks((BallStroke(((0.0, 0.0, 20.0),), 5.0),))
    after = patch_goes_on(ball, "heal", marks=mark)
    assert 0.9 < after.texture.seen < 1.0
    assert after.texture.unseen.sum() == 16 * int(after.made_up.sum()), "patches are told as not seen by any photograph"


def test_closed_holes_and_bridges_keep_it_too(ball: TriangleMesh) -> None:
    centres = ball.face_centres()
    open_ = ball.select_faces((centres[:, 2] < 17) & (centres[:, 0] < 18))
    patch_goes_on(open_, "patch_holes")
    rim = open_.vertices[np.abs(open_.vertices[:, 2] - 17) < 1.2]
    ends = tuple(tuple(map(float, rim[k])) for k in (int(rim[:, 1].argmin()), int(rim[:, 1].argmax())))
    patch_goes_on(open_, "patch_holes", bridges=ends)


def test_where_there_is_little_room_a_patch_gets_a_texel_of_each_and_where_there_is_none_it_goes(
    ball: TriangleMesh, monkeypatch: pytest.MonkeyPatch
) -> None:
    open_ = ball.select_faces(ball.face_centres()[:, 2] < 17)
    used, drawn = patched._used(open_.texture.uv, SIDE)
    assert 0 < drawn < used.sum()
    assert (
        patched._room(used, 1)[0] == 4
        and not used[patched._room(used, 5)[1][:, 0], patched._room(used, 5)[1][:, 1]].any()
    )
    free = np.argwhere(~used)
    tight = np.ones_like(used)
    tight[tuple(free[::40].T)] = False
    monkeypatch.setattr(patched, "_used", lambda *_: (tight, drawn))
    patch_goes_on(open_, "patch_holes", MIDDLE)
    monkeypatch.setattr(patched, "_used", lambda *_: (np.ones_like(used), drawn))
    bare = run("patch_holes", open_)
    assert bare.texture is None and bare.colours is not None
