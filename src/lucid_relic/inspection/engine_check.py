"""Is a mesh fit for a game engine or a page? Triangles, texture, normals, pivot and size, each fault with what mends it.

The figures are those of common practice: triangles for a page and for a game, texels for a millimetre of what is
looked at from an arm's length, the origin at the middle of the foot.
"""

from dataclasses import asdict, dataclass
from typing import Any

import numpy as np
from scipy.spatial import cKDTree

from lucid_relic.geometry.topology import consistently_oriented
from lucid_relic.inspection.print_check import Check
from lucid_relic.types import Texture, TriangleMesh

OVERLAP_ASKED = 20_000  # triangles whose middle is looked for in others
OVERLAP_NEAR = 24  # other triangles that are asked, the nearest
OVERLAP_BORNE = 0.001  # share of the texture's triangles: their middles may fall on a border
INSIDE = 1e-4  # share of a triangle that a middle must lie inside it
PIVOT_SHARE = 0.01  # of the size that the origin may lie off the middle of the foot
ORDINARY_MM = (5.0, 5000.0)  # across: smaller or larger is a slip of the unit


@dataclass(frozen=True, kw_only=True)
class Engine:
    """What a use bears: triangles, and texels per mm that it needs."""

    name: str
    most_triangles: int
    texels_mm: float


ENGINES: dict[str, Engine] = {
    e.name: e
    for e in (
        Engine(name="page", most_triangles=100_000, texels_mm=4.0),
        Engine(name="game", most_triangles=50_000, texels_mm=4.0),
        Engine(name="film", most_triangles=2_000_000, texels_mm=10.0),
    )
}


@dataclass(frozen=True)
class EngineReport:
    """All checks in the order they matter, and whether every one holds."""

    engine: str
    checks: tuple[Check, ...]

    @property
    def ready(self) -> bool:
        return all(check.holds for check in self.checks)

    def as_dict(self) -> dict[str, Any]:
        return {**asdict(self), "ready": self.ready}


def engine_check(mesh: TriangleMesh, engine: Engine) -> EngineReport:
    """Judge a mesh, z up, in millimetres, for a use in an engine."""
    checks = [_count(mesh, engine), *_texture(mesh, engine), _normals(mesh), _pivot(mesh), _size(mesh)]
    return EngineReport(engine.name, tuple(checks))


def _count(mesh: TriangleMesh, engine: Engine) -> Check:
    fits = len(mesh.faces) <= engine.most_triangles
    words = f"{len(mesh.faces)} triangles, {engine.most_triangles} are borne well."
    return Check("triangles", fits, words, mend="simplify")


def _texture(mesh: TriangleMesh, engine: Engine) -> list[Check]:
    texture = mesh.texture
    if texture is None:
        return [Check("texture", False, "It has no texture.", mend="lay_colour")]
    density = texels_per_mm(mesh, texture)
    enough = density >= engine.texels_mm
    words = f"{density:.1f} texels for a millimetre, {engine.texels_mm:g} are wanted."
    shared = overlap_share(texture.uv)
    clean = shared <= OVERLAP_BORNE
    told = "No place of the texture is used twice." if clean else f"{shared:.1%} of the texture is used twice."
    inside = bool((texture.uv >= -INSIDE).all() and (texture.uv <= 1 + INSIDE).all())
    return [
        Check("texture", enough, words, mend="lay_colour"),
        Check("overlap", clean, told, mend="lay_colour"),
        Check("layout", inside, "It lies within the texture." if inside else "It reaches beyond the texture."),
    ]


def texels_per_mm(mesh: TriangleMesh, texture: Texture) -> float:
    """Texels along a millimetre of the surface, in the mean over its area."""
    a, b, c = (texture.uv[:, k].astype(np.float64) for k in range(3))
    covered = np.abs(_twice_area(a, b, c)).sum() / 2 * texture.image.shape[0] ** 2
    return float(np.sqrt(covered / max(mesh.area_mm2(), 1e-12)))


def overlap_share(uv: np.ndarray) -> float:
    """Share of triangles (m, 3, 2) whose middle lies well inside another one."""
    middles = uv.astype(np.float64).mean(axis=1)
    real = np.flatnonzero(_twice_area(*(uv[:, k].astype(np.float64) for k in range(3))) != 0)
    asked = real[:: max(len(real) // OVERLAP_ASKED, 1)]
    near = min(OVERLAP_NEAR, len(real))
    if near < 2:
        return 0.0
    found = real[cKDTree(middles[real]).query(middles[asked], k=near, workers=-1)[1]]
    twice = np.zeros(len(asked), bool)
    for k in range(near):
        other = found[:, k]
        inside = _inside(middles[asked], uv[other].astype(np.float64)) & (other != asked)
        twice |= inside
    return float(twice.mean())


def _twice_area(a: np.ndarray, b: np.ndarray, c: np.ndarray) -> np.ndarray:
    """(n,) twice the signed area of flat triangles with corners (n, 2)."""
    out: np.ndarray = (b[:, 0] - a[:, 0]) * (c[:, 1] - a[:, 1]) - (b[:, 1] - a[:, 1]) * (c[:, 0] - a[:, 0])
    return out


def _inside(places: np.ndarray, corners: np.ndarray) -> np.ndarray:
    """(n,) bool: whether places (n, 2) lie inside triangles (n, 3, 2), however these turn."""
    a, b, c = corners[:, 0], corners[:, 1], corners[:, 2]
    whole = _twice_area(a, b, c)
    shares = [_twice_area(p, q, places) / np.where(whole == 0, 1, whole) for p, q in ((a, b), (b, c), (c, a))]
    out: np.ndarray = (whole != 0) & (np.min(shares, axis=0) > INSIDE)
    return out


def _normals(mesh: TriangleMesh) -> Check:
    alike = consistently_oriented(mesh.faces)
    outwards = mesh.volume_mm3() > 0
    words = "Its normals point outwards, all alike." if alike and outwards else "Some of its normals point inwards."
    return Check("normals", alike and outwards, words, mend="repair")


def _pivot(mesh: TriangleMesh) -> Check:
    low, high = mesh.vertices.min(axis=0), mesh.vertices.max(axis=0)
    size = float(np.linalg.norm(high - low))
    foot = np.array([(low[0] + high[0]) / 2, (low[1] + high[1]) / 2, low[2]])
    off = float(np.linalg.norm(foot))
    holds = off <= PIVOT_SHARE * size
    words = (
        "The origin lies at the middle of its foot."
        if holds
        else f"The origin lies {off:.1f} mm off the middle of its foot."
    )
    return Check("pivot", holds, words, mend="stand_up")


def _size(mesh: TriangleMesh) -> Check:
    size = np.ptp(mesh.vertices, axis=0)
    across = float(np.linalg.norm(size))
    holds = ORDINARY_MM[0] <= across <= ORDINARY_MM[1]
    told = " × ".join(f"{v / 1000:.4g}" for v in size)
    return Check("size", holds, f"{told} m in an engine that counts in metres.")
