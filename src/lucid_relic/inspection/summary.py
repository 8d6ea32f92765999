"""A state in figures."""

import hashlib
from collections.abc import Mapping
from typing import Any

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from lucid_relic.geometry.measured import size_of
from lucid_relic.geometry.topology import edge_table, is_watertight
from lucid_relic.inspection.mesh_check import face_components
from lucid_relic.types import MeasuredCloud, PassState, ScanState, TriangleMesh

# Among the notes of a state:
GHOSTS, FUSED_OF, WALLS, OF_TAKE, SWALLOWED = "ghosts", "fused_of", "walls", "of_take", "swallowed"
ADJUST, ROUGHNESS, STRANGE, LENGTHS, SCALE = "adjust", "roughness", "strange_light", "lengths", "scale"
DEVIATION, ACCURACY = "deviation", "accuracy"
USUAL_ROUGHNESS = 0.8  # of what nobody said otherwise of


def summarise_state(state: ScanState) -> dict[str, Any]:
    """Figures for shelf, worksheet and pass tracks, as plain JSON."""
    return {
        "passes": [_pass_figures(p) for p in state.passes],
        "mesh": _mesh_figures(state.mesh) if state.mesh is not None else None,
        "points": len(state.points) if state.points is not None else 0,
        "voxel_mm": state.volume.voxel_mm if state.volume is not None else None,
        "upright": state.upright,
        "walls": _of_this_mesh(state, WALLS),
        "fused_of": state.notes.get(FUSED_OF),
        "takes": [{"name": t.name, **t.told} for t in state.takes],
        "of_take": state.notes.get(OF_TAKE),
        "swallowed": state.notes.get(SWALLOWED, []) if state.volume is not None else [],
        "adjust": state.notes.get(ADJUST),
        "roughness": state.notes.get(ROUGHNESS, USUAL_ROUGHNESS),
        "strange_light": state.notes.get(STRANGE, []) if state.mesh is not None and state.mesh.texture else [],
        "lengths": state.notes.get(LENGTHS, []),
        "scale": state.notes.get(SCALE),
        "deviation": _of_this_mesh(state, DEVIATION),
        "accuracy": _of_this_mesh(state, ACCURACY),
        "ghosts": [ghost for ghost in state.notes.get(GHOSTS, []) if still_in(state, ghost)],
    }


def digest_of_mesh(mesh: TriangleMesh) -> str:
    """A short name of a mesh's shape: what was measured of it holds as long as that stays."""
    shape = hashlib.blake2b(np.ascontiguousarray(mesh.vertices).tobytes(), digest_size=8)
    shape.update(np.ascontiguousarray(mesh.faces).tobytes())
    return shape.hexdigest()


def _of_this_mesh(state: ScanState, name: str) -> dict[str, Any] | None:
    """What was found on just this mesh, of those a note tells of: thin walls, how far it lies off a reference."""
    told = state.notes.get(name)
    if told is None or state.mesh is None or told["of"] != digest_of_mesh(state.mesh):
        return None
    return dict(told)


def still_in(state: ScanState, ghost: Mapping[str, Any]) -> bool:
    """Whether frames that laid a ghost layer are in use."""
    scan = next((p for p in state.passes if p.title == ghost["pass"]), None)
    return scan is not None and not scan.off and any(scan.frame_in[i] for i in ghost["frames"] if i < scan.frame_count)


def _pass_figures(scan: PassState) -> dict[str, Any]:
    fit = [None if np.isnan(f) else round(float(f), 4) for f in scan.fit_mm]
    share = None
    if scan.keep is not None:
        share = [round(float(np.bitwise_count(row).sum()) / (row.size * 8), 5) for row in scan.keep]
    known = scan.fit_mm[~np.isnan(scan.fit_mm)]
    return {
        "title": scan.title,
        "capture": scan.source.key,
        "tracking": scan.tracking,
        "width": scan.camera.width,
        "frames": scan.frame_count,
        "frames_in": [bool(b) for b in scan.frame_in],
        "fit_mm": fit,
        "kept_share": share,
        "rms_mm": round(float(np.sqrt((known**2).mean())), 4) if len(known) else None,
        "noise_mm": scan.noise_mm,
        "knocked": list(scan.knocked),
        "loose": list(scan.loose),
        "posed": bool(scan.posed and (len(known) or scan.cloud is not None)),
        "points": _cloud_figures(scan.cloud) if scan.cloud is not None else None,
        "cut": scan.keep is not None,
        "placed": scan.placed,
        "off": scan.off,
        "T_object_pass": [[float(v) for v in row] for row in scan.T_object_pass],
    }


def _cloud_figures(cloud: MeasuredCloud) -> dict[str, Any]:
    """What a pass of points came as; coloured says that its points or its texture have colour."""
    surface = cloud.surface
    return {
        "count": len(cloud),
        "triangles": len(surface.faces) if surface is not None else 0,
        "size_mm": round(size_of(cloud.cloud.points), 4),
        "spacing_mm": round(cloud.spacing_mm, 4),
        "unit": cloud.unit,
        "unit_from": cloud.unit_from,
        "normals_from": cloud.normals_from,
        "coloured": cloud.cloud.colours is not None or (surface is not None and surface.texture is not None),
    }


def _mesh_figures(mesh: TriangleMesh) -> dict[str, Any]:
    edges, counts, _ = edge_table(mesh.faces)
    low, high = mesh.vertices.min(axis=0), mesh.vertices.max(axis=0)
    watertight = is_watertight(mesh.faces, counts)
    border = edges[counts == 1]
    return {
        "triangles": len(mesh.faces),
        "vertices": len(mesh.vertices),
        "size_mm": (high - low).round(2).tolist(),
        "low_mm": low.round(3).tolist(),
        "high_mm": high.round(3).tolist(),
        "watertight": watertight,
        "volume_mm3": mesh.volume_mm3() if watertight else None,
        "area_mm2": mesh.area_mm2(),
        "made_up_area_fraction": mesh.made_up_area_fraction(),
        "made_up_place": _made_up_place(mesh),
        "textured": mesh.texture is not None,
        "texture_seen": mesh.texture.seen if mesh.texture is not None else None,
        "texture_size": mesh.texture.image.shape[0] if mesh.texture is not None else None,
        "holes": _holes(mesh, border),
        "pieces": face_components(mesh.faces)[0],
    }


def _made_up_place(mesh: TriangleMesh) -> list[float] | None:
    """Middle of the largest made-up patch."""
    if mesh.made_up is None or not mesh.made_up.any():
        return None
    part = mesh.select_faces(mesh.made_up)
    _, piece = face_components(part.faces)
    area = np.linalg.norm(part.face_normals(), axis=1)
    largest = piece == np.argmax(np.bincount(piece, area))
    return part.corners[largest].mean(axis=(0, 1)).round(2).tolist()


def _holes(mesh: TriangleMesh, border: np.ndarray) -> dict[str, Any]:
    """How many runs of border edges there are, and length and middle of the longest."""
    if not len(border):
        return {"count": 0}
    used, local = np.unique(border, return_inverse=True)
    local = local.reshape(-1, 2)
    graph = coo_matrix((np.ones(len(local)), (local[:, 0], local[:, 1])), shape=(len(used),) * 2)
    count, label = connected_components(graph, directed=False)
    ends = mesh.vertices[border]
    length = np.bincount(label[local[:, 0]], np.linalg.norm(ends[:, 0] - ends[:, 1], axis=1))
    longest = int(np.argmax(length))
    place = mesh.vertices[used[label == longest]].mean(axis=0)
    return {"count": int(count), "longest_mm": float(length[longest]), "place": place.round(2).tolist()}
