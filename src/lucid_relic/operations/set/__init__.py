"""Operations of the stage Set."""

from lucid_relic.operations.set import stand_up  # noqa: F401
