"""Operations of the stage Fuse."""

from lucid_relic.operations.fuse import fuse, close, gather_points  # noqa: F401, I001  (the order people use them in)
