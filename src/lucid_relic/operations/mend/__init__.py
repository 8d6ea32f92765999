"""Operations of the stage Mend."""

from lucid_relic.operations.mend import (  # noqa: F401, I001 - in the order people use them
    largest_piece,
    simplify,
    simplify_curve,
    remesh,
    patch_holes,
    heal,
    repair,
    flat_foot,
    smooth,
    print_check,
    engine_check,
    use_surface,
)
