"""Compiled loops are made once, before the first job."""

from pathlib import Path

import pytest

from lucid_relic.demo.warm import DONE, warm


def test_loops_are_made_once_and_the_next_start_does_nothing(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    # Numba reads the folder at its import: the loops themselves stay where they are, only the mark of this test moves.
    monkeypatch.setenv("NUMBA_CACHE_DIR", str(tmp_path / "loops"))
    told: list[float] = []
    assert warm(lambda fraction, message: told.append(fraction))
    assert (tmp_path / "loops" / DONE).is_file() and told == sorted(told) and told[-1] == 1.0
    assert not warm(), "a second start must not run anything"
