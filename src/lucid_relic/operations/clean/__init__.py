"""Operations of the stage Clean."""

from lucid_relic.operations.clean import (  # noqa: F401, I001 - in the order people use them
    stand_cut,
    loose_pieces,
    trim_fuzz,
    ghost_layers,
    trim_borders,
    by_marks,
    leave_out,
)
