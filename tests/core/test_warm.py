"""Compiled loops are made once, before the first job."""

from pathlib import Path

import pytest
from llvmlite import binding

from lucid_relic import _features_of_processor
from lucid_relic.demo.warm import DONE, warm


def test_loops_are_made_once_and_the_next_start_does_nothing(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    # Numba reads the folder at its import: the loops themselves stay where they are, only the mark of this test moves.
    monkeypatch.setenv("NUMBA_CACHE_DIR", str(tmp_path / "loops"))
    told: list[float] = []
    assert warm(lambda fraction, message: told.append(fraction))
    assert (tmp_path / "loops" / DONE).is_file() and told == sorted(told) and told[-1] == 1.0
    assert not warm(), "a second start must not run anything"


def test_whole_vectors_are_asked_for_where_the_processor_has_them(tmp_path: Path) -> None:
    told = tmp_path / "cpuinfo"
    assert _features_of_processor(told) is None
    told.write_text("flags : fpu sse2 avx2 bmi2\n")
    assert _features_of_processor(told) is None
    told.write_text("flags : fpu sse2 avx2 avx512f avx512dq\n")
    assert _features_of_processor(told) == f"{binding.get_host_cpu_features().flatten()},-prefer-256-bit"
