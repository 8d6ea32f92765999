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
