"""Operations of the stage Clean."""

from lucid_relic.operations.clean import stand_cut, trim_fuzz  # noqa: F401
