"""Operations of the stage Fuse."""

from lucid_relic.operations.fuse import (  # noqa: F401, I001 - in the order people use them
    fuse,
    close,
    local_detail,
    takes,
    gather_points,
)
