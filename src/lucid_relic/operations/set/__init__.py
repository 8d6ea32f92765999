"""Operations of the stage Set."""

from lucid_relic.operations.set import stand_up, set_scale, measure, deviation, accuracy  # noqa: F401, I001
