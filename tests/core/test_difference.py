"""CIEDE2000 against its published test pairs, and L*a*b* of known colours."""

from pathlib import Path

import numpy as np

from lucid_relic.light.difference import delta_e_2000, lab_of_linear

PAIRS = Path(__file__).parents[1] / "data" / "ciede2000_sharma_2005.csv"


def test_ciede2000_agrees_with_the_34_pairs_of_sharma_wu_dalal_2005() -> None:
    # Source: table 1 of Sharma, Wu & Dalal (2005), doi:10.1002/col.20070, given to four decimals.
    rows = np.loadtxt(PAIRS, delimiter=",")
    assert rows.shape == (34, 7)
    assert np.abs(delta_e_2000(rows[:, :3], rows[:, 3:6]) - rows[:, 6]).max() < 1e-4
    assert np.allclose(delta_e_2000(rows[:, 3:6], rows[:, :3]), rows[:, 6], atol=1e-4)


def test_lab_of_white_grey_and_red() -> None:
    # White and grey by definition of L*; red of sRGB is about (53.24, 80.09, 67.20): common tables, from memory.
    lab = lab_of_linear(
        np.array([[1.0, 1, 1], [0.18418651851244416, 0.18418651851244416, 0.18418651851244416], [1, 0, 0]])
    )
    assert np.allclose(lab[0], [100, 0, 0], atol=1e-6)
    assert np.allclose(lab[1], [50, 0, 0], atol=1e-3)
    assert np.allclose(lab[2], [53.24, 80.09, 67.20], atol=0.02)
