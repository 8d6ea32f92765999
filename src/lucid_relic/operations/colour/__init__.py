"""Operations of the stage Colour."""

from lucid_relic.operations.colour import lay_colour, adjust_colour, heal_colour, roughness  # noqa: F401, I001
