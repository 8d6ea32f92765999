"""Maps of a fine mesh on a reduced one, against closed truth, and as an independent reader finds them in the file."""

from dataclasses import replace
from pathlib import Path

import numpy as np
import pygltflib
import pytest
from khronos import validated
from scenes import grid_plane

from lucid_relic.delivery.baking import baked, vertex_tangents
from lucid_relic.delivery.receivers import Told, receiver
from lucid_relic.errors import StepNotPossible
from lucid_relic.progress import silent
from lucid_relic.types import ScanState, Texture, TriangleMesh

SIZE = 128


def textured(mesh: TriangleMesh, turned: bool = False) -> TriangleMesh:
    """A plate of 40 mm with its picture laid from corner to corner, or mirrored along u."""
    uv = mesh.vertices[mesh.faces][:, :, :2] / 40
    if turned:
        uv = uv * [-1, 1] + [1, 0]
    return replace(mesh, texture=Texture(np.full((SIZE, SIZE, 3), 128, np.uint8), uv.astype(np.float32), 1.0))


def waves(step: float) -> TriangleMesh:
    """A plate of 40 mm with waves of 0.5 mm along x."""
    plate = grid_plane(40, 40, step)
    vertices = plate.vertices.copy()
    vertices[:, 2] = 0.5 * np.sin(vertices[:, 0] * 2 * np.pi / 10)
    return replace(plate, vertices=vertices)


def box_with_walls() -> TriangleMesh:
    """A plate of 40 mm, and a wall of 10 mm along its left edge."""
    floor, wall = grid_plane(40, 40, 1.0), grid_plane(10, 40, 1.0)
    standing = wall.vertices[:, [2, 1, 0]]
    faces = np.concatenate([floor.faces, wall.faces + len(floor.vertices)])
    return TriangleMesh(np.concatenate([floor.vertices, standing]), faces.astype(np.int32))


@pytest.mark.parametrize("turned", [False, True])
def test_normals_are_those_of_the_fine_mesh(turned: bool) -> None:
    flat = textured(grid_plane(40, 40, 10.0), turned)
    normal = baked(waves(0.25), flat, SIZE, True, False, silent).normal
    u = (np.arange(SIZE) + 0.5) / SIZE * 40
    x = 40 - u if turned else u
    slope = 0.5 * 2 * np.pi / 10 * np.cos(x * 2 * np.pi / 10)
    true = np.stack([-slope, np.zeros(SIZE), np.ones(SIZE)], axis=1) / np.sqrt(1 + slope**2)[:, None]
    true[:, 0] *= -1 if turned else 1  # x of the map runs along u
    shown = normal[SIZE // 2].astype(float) / 255 * 2 - 1
    inner = slice(4, -4)
    assert np.abs(shown[inner] - true[inner]).max() < 0.03


def test_tangents_run_along_the_picture_square_to_the_surface() -> None:
    for turned in (False, True):
        tangents = vertex_tangents(textured(grid_plane(40, 40, 10.0), turned))
        assert tangents[..., 0] == pytest.approx(-1 if turned else 1) and np.abs(tangents[..., 1:3]).max() < 1e-6
        # The picture's up is y here: the normal crossed with the tangent, or against it.
        assert (tangents[..., 3] == (-1 if turned else 1)).all()


def test_openness_is_less_beside_a_wall_by_what_the_wall_covers() -> None:
    flat = textured(grid_plane(40, 40, 10.0))
    occlusion = baked(box_with_walls(), flat, SIZE, False, True, silent).occlusion / 255
    row = occlusion[SIZE // 2]
    # Source: the form factor of a wall of height h at distance d that runs far to both sides is (1 - d / √(d² + h²)) / 2.
    for d in (1.0, 3.0, 8.0):
        wall = (1 - d / np.hypot(d, 10)) / 2
        assert row[int(d / 40 * SIZE)] == pytest.approx(1 - wall, abs=0.07)
    assert row[-8] > 0.93 and row[1] < 0.62


def test_a_file_carries_its_maps_with_their_tangents(tmp_path: Path) -> None:
    web = receiver("web")
    state = ScanState(mesh=textured(waves(0.5)))
    wishes = web.parameters(triangles=200, normal_map=True, occlusion=True)
    (path,) = web.make(state, wishes, Told("Wave", "wave"), tmp_path, silent)
    issues = validated(path)
    assert issues["numErrors"] == 0 and issues["numWarnings"] == 0, issues["messages"]
    read = pygltflib.GLTF2().load(str(path))
    material = read.materials[0]
    assert (
        material.normalTexture.index
        != material.occlusionTexture.index
        != material.pbrMetallicRoughness.baseColorTexture.index
    )
    assert [image.mimeType for image in read.images] == ["image/jpeg", "image/png", "image/png"]
    tangent = read.accessors[read.meshes[0].primitives[0].attributes.TANGENT]
    assert (
        tangent.type == "VEC4"
        and tangent.count == read.accessors[read.meshes[0].primitives[0].attributes.POSITION].count
    )
    with pytest.raises(StepNotPossible, match="Lay colour"):
        baked(waves(0.5), waves(2.0), SIZE, True, False, silent)
