"""Operations of the stage Align."""

from lucid_relic.operations.align import find_fit, settle  # noqa: F401
