"""Compiled loops are kept by what all of their code says, so that an update never goes on with old code."""

import os
import subprocess
import sys
from pathlib import Path

import lucid_relic

PROGRAM = """
import lucid_relic
from lucid_relic.second._kernels import doubled
print(doubled(3))
"""


def package(root: Path, factor: int) -> None:
    """A small package whose compiled loop calls one in another file."""
    own = root / "lucid_relic"
    for name in ("first", "second"):
        (own / name).mkdir(parents=True, exist_ok=True)
        (own / name / "__init__.py").write_text("")
    (own / "__init__.py").write_text(Path(lucid_relic.__file__).read_text())
    (own / "first" / "_kernels.py").write_text(
        f"from numba import njit\n@njit(cache=True)\ndef times(x):\n    return {factor} * x\n"
    )
    second = own / "second" / "_kernels.py"
    if not second.exists():
        second.write_text(
            "from numba import njit\nfrom lucid_relic.first._kernels import times\n"
            "@njit(cache=True)\ndef doubled(x):\n    return times(x)\n"
        )


def answer(root: Path) -> int:
    environment = {k: v for k, v in os.environ.items() if k != "NUMBA_CACHE_DIR"}
    command = [sys.executable, "-c", PROGRAM]
    done = subprocess.run(command, cwd=root, env=environment, capture_output=True, text=True, check=True)
    return int(done.stdout)


def kept(root: Path) -> list[Path]:
    return sorted((root / "lucid_relic" / "__pycache__").glob("loops-*"))


def test_a_change_in_a_called_file_is_compiled_anew_and_old_loops_go(tmp_path: Path) -> None:
    package(tmp_path, 2)
    assert answer(tmp_path) == 6
    before = kept(tmp_path)
    assert len(before) == 1 and list(before[0].rglob("*.nbc"))
    assert answer(tmp_path) == 6 and kept(tmp_path) == before
    package(tmp_path, 5)
    assert answer(tmp_path) == 15
    assert len(kept(tmp_path)) == 1 and kept(tmp_path) != before


def test_a_place_given_by_the_keeper_of_the_machine_is_used(tmp_path: Path) -> None:
    package(tmp_path, 2)
    environment = {**os.environ, "NUMBA_CACHE_DIR": str(tmp_path / "elsewhere")}
    subprocess.run([sys.executable, "-c", PROGRAM], cwd=tmp_path, env=environment, check=True, capture_output=True)
    assert list((tmp_path / "elsewhere").rglob("*.nbc"))


PLANES = """
import hashlib
import numpy as np
from lucid_relic.fusion.field import Field, Plan, shot_of
from lucid_relic.geometry.depth_map import depth_map
from lucid_relic.types import Camera
v, u = np.mgrid[:60, :80]
depth = 200 + 8 * np.sin(u / 9) + 0.2 * v + 30 * (u > 50) + 0.05 * np.random.default_rng(1).normal(size=v.shape)
depth[((u - 20) ** 2 + (v - 30) ** 2) < 60] = 0
surface = depth_map(depth.astype(np.float32), Camera.centred(80, 60, 120.0))
image = np.random.default_rng(2).integers(0, 256, (60, 80, 3), np.uint8)
coords = np.stack(np.meshgrid((-3, -2, -1, 0, 1, 2), (-2, -1, 0, 1), range(22, 29), indexing="ij"), -1).reshape(-1, 3)
field = Field.empty(coords.astype(np.int32))
shot = shot_of(surface, image, np.eye(4), np.arange(len(coords), dtype=np.int32))
field.add([shot, shot], Plan(np.zeros(3), 1.0, 4.0, 3.0, 2.25, 1.1, 0.05, False))
assert (field.weight > 1e-5).sum() > 5000
arrays = (surface.fitted, surface.normals, surface.confidence, shot.packed, field.distance, field.weight, field.colour)
print(hashlib.sha256(b"".join(a.tobytes() for a in arrays)).hexdigest(), (surface.confidence > 0).sum())
"""


def test_loops_compiled_just_now_and_loops_that_were_kept_give_the_same_to_the_bit(tmp_path: Path) -> None:
    environment = {**os.environ, "NUMBA_CACHE_DIR": str(tmp_path)}
    command = [sys.executable, "-W", "ignore", "-c", PLANES]
    first, second = (
        subprocess.run(command, env=environment, capture_output=True, text=True, check=True).stdout for _ in range(2)
    )
    assert first == second and int(first.split()[1]) > 2000
