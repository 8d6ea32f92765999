"""Operations of the stage Mend."""

from lucid_relic.operations.mend import (  # noqa: F401, I001 - in the order people use them
    largest_piece,
    simplify,
    remesh,
    patch_holes,
    heal,
    repair,
    smooth,
    print_check,
    use_surface,
)
