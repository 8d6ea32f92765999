"""Operations of the stage Mend."""

from lucid_relic.operations.mend import largest_piece, simplify, remesh  # noqa: F401, I001  (the order people use them in)
