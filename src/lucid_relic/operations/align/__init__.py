"""Operations of the stage Align."""

from lucid_relic.operations.align import (  # noqa: F401, I001 - in the order people use them
    find_fit,
    by_hand,
    by_markers,
    settle,
    switch_passes,
)
