"""How long a whole job takes, step by step: from frames on disk to a closed mesh, with and without a texture."""

from dataclasses import replace
from functools import partial

from accuracy import made
from measure import measured
from scanned import Captured, Lines, captured, npm_mesh, opened, table

from lucid_relic.operations.recipe import Recipe, built_in, run_recipe
from lucid_relic.progress import silent
from lucid_relic.types import ScanState

# object, stops of each of its two passes, voxel (mm; 0 chooses by the purpose), width of the texture (0: none)
JOBS = (
    ("dragon", 24, 0.5, 4096),  # the first is run twice, so that all is compiled
    ("dragon", 24, 0.5, 0),
    ("bunny", 24, 0.5, 0),
    ("bunny", 24, 0.5, 4096),
    ("dragon", 24, 0.25, 4096),
    ("stamp", 24, 0.0, 2048),
    ("owl", 24, 0.0, 2048),
    ("bunny", 96, 0.5, 0),
)


def _run(capture: Captured, recipe: Recipe, seconds: dict[str, float]) -> ScanState:
    """All steps of a recipe; how long each took stands in `seconds` afterwards."""
    return run_recipe(opened(capture), recipe, silent, lambda step, s, r, took: seconds.update({step.operation: took}))


def times() -> Lines:
    """Seconds of the print recipe, all in one process, on captures of its own."""
    rows: Lines = []
    shown: Lines = []
    for n, (name, stops, voxel, texture) in enumerate(JOBS):
        capture = captured(name, npm_mesh(name), stops) if voxel else made(name)
        recipe = built_in("print")
        recipe = replace(recipe, steps=tuple(s for s in recipe.steps if texture or s.operation != "lay_colour"))
        if voxel:
            recipe = recipe.with_parameter("fuse", "voxel_mm", voxel)
        if texture:
            recipe = recipe.with_parameter("lay_colour", "size", texture)
        seconds: dict[str, float] = {}
        state, cost = measured(partial(_run, capture, recipe, seconds), warm_up=n == 0)
        shown = shown or list(seconds)
        parts = " | ".join(f"{seconds[step]:.1f}" if step in seconds else "–" for step in shown)
        rows.append(
            f"| {name} | {2 * stops} | {voxel or 'own'} | {texture or '–'} | {cost.wall:.0f} | {cost.cpu:.0f} | {parts} "
            f"| {len(state.mesh.faces):,} |"
        )
    head = f"| object | frames | voxel mm | texture | all s | CPU s | {' | '.join(s.replace('_', ' ') for s in shown)} | triangles |"
    return ["## Times, step by step", "", *table(head, rows)]
