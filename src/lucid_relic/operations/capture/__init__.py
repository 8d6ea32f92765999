"""Operations of the stage Capture."""

from lucid_relic.operations.capture import place_frames  # noqa: F401
