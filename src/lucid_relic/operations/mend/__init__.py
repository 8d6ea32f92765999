"""Operations of the stage Mend."""

from lucid_relic.operations.mend import largest_piece, simplify, remesh, use_surface  # noqa: F401, I001  (the order people use them in)
