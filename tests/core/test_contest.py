"""When a motion counts as better than a rival: by how many patches it leads, and where the rival is grossly off."""

import numpy as np
import pytest

from lucid_relic.alignment.contest import ahead, beats, likeness
from lucid_relic.alignment.evidence import MOST, Evidence
from lucid_relic.alignment.fit_settings import DEFAULT_SETTINGS

PATCHES = 3000


def said(off: slice, gross: int = 0, unknown: slice = slice(0, 0)) -> Evidence:
    """All patches agree but for those that are off, of which the first few grossly."""
    errors, far = np.full(PATCHES, 0.1, np.float32), np.zeros(PATCHES, bool)
    errors[off], errors[unknown] = MOST, np.nan
    far[off.start : off.start + gross] = True
    return Evidence(errors, far, 0.0)


def test_a_knob_decides_where_torn_edges_take_patches_from_both() -> None:
    # 99 to 41 patches is too near for all of them together; grossly off is the rival in 60, the right one nowhere.
    right, rival = said(slice(100, 141)), said(slice(1000, 1099), gross=60)
    assert right.against(rival) == (99, 41) and likeness(99, 41) > DEFAULT_SETTINGS.max_rival
    assert beats(right, rival, DEFAULT_SETTINGS) and not beats(rival, right, DEFAULT_SETTINGS)
    assert not beats(right, said(slice(1000, 1099)), DEFAULT_SETTINGS)


@pytest.mark.parametrize(("gross", "lost_grossly"), [(13, 0), (60, 41), (30, 17)])
def test_gross_patches_decide_only_by_a_clear_lead(gross: int, lost_grossly: int) -> None:
    one, other = said(slice(100, 141), gross=lost_grossly), said(slice(1000, 1099), gross=gross)
    assert not beats(one, other, DEFAULT_SETTINGS)


def test_of_motions_that_lay_different_places_on_each_other_the_lead_must_be_greater() -> None:
    lost = slice(0, 150)
    everywhere, half = said(slice(0, 0)), said(lost, unknown=slice(1500, PATCHES))
    assert everywhere.against(half) == (150, 0)
    assert not beats(everywhere, half, DEFAULT_SETTINGS)
    assert beats(said(slice(0, 0), unknown=slice(1500, PATCHES)), half, DEFAULT_SETTINGS)
    assert beats(everywhere, said(slice(0, 200), unknown=slice(1500, PATCHES)), DEFAULT_SETTINGS)


def test_the_better_one_is_told_by_what_it_explains_where_the_other_knows_other_places() -> None:
    everywhere, half = said(slice(0, 3)), said(slice(0, 0), unknown=slice(1500, PATCHES))
    assert ahead(everywhere, half) and not ahead(half, everywhere)
    assert ahead(said(slice(0, 0)), everywhere)
