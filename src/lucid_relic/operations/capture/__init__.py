"""Operations of the stage Capture."""

from lucid_relic.operations.capture import place_frames, set_unit, turn_normals  # noqa: F401
