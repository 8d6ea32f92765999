"""Operations of the stage Colour."""

from lucid_relic.operations.colour import lay_colour  # noqa: F401
