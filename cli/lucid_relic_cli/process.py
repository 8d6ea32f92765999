"""`lucid-relic process`: passes in, a finished mesh with its report out."""

import argparse
import shutil
import tempfile
from pathlib import Path
from typing import Any

from lucid_relic.errors import NotAccepted, ParameterError
from lucid_relic.io.delivered import delivered
from lucid_relic.io.meshes import MESH_FORMATS, write_mesh, write_points
from lucid_relic.io.results import finite, placements, run_report, write_json
from lucid_relic.operations.recipe import BUILT_IN, Recipe, RecipeStep, built_in, parse_recipe, run_recipe
from lucid_relic.operations.registry import Report
from lucid_relic.types import ScanState
from lucid_relic_cli.inputs import INPUTS, add_said, open_passes, said
from lucid_relic_cli.progress_line import progress_line


def add_to(commands: argparse._SubParsersAction) -> None:
    """Add this command's options."""
    p = commands.add_parser("process", help="run a recipe over one or more passes")
    p.add_argument("captures", nargs="+", metavar="CAPTURE", help=f"{INPUTS}, one a pass")
    p.add_argument("--recipe", default="print", help=f"{', '.join(BUILT_IN)} or a JSON file (default print)")
    p.add_argument("--out", required=True, metavar="DIR")
    p.add_argument("--voxel", type=float, metavar="MM", help="voxel size of the fusion")
    p.add_argument("--set", action="append", default=[], metavar="operation.parameter=value")
    p.add_argument("--format", default="ply", help=f"any of {','.join(MESH_FORMATS)} (default ply)")
    add_said(p)
    p.set_defaults(run=run)


def run(options: argparse.Namespace) -> None:
    """Check everything first, compute, then write the whole result."""
    kinds = [k.strip().lower() for k in options.format.split(",") if k.strip()]
    unknown = [k for k in kinds if k not in MESH_FORMATS]
    if unknown or not kinds:
        raise ParameterError(f"--format takes {', '.join(MESH_FORMATS)}, not “{options.format}”")
    recipe = _recipe(options)
    scratch = Path(tempfile.mkdtemp(prefix="lucid-relic-"))
    try:
        state = ScanState(tuple(open_passes(options.captures, scratch, said(options))))
        steps = _Steps(state)
        refused: NotAccepted | None = None
        try:
            run_recipe(state, recipe, progress_line(), steps.add)
        except NotAccepted as refusal:
            refused = refusal
        _write(Path(options.out), steps.state, steps.told, kinds)
    finally:
        shutil.rmtree(scratch, ignore_errors=True)
    if refused is not None:
        raise refused
    left = [p.title for p in steps.state.passes if not p.placed]
    if left:
        raise NotAccepted(f"would not align: {', '.join(left)}; report.json says why")


def _recipe(options: argparse.Namespace) -> Recipe:
    name = options.recipe
    if name in BUILT_IN:
        recipe = built_in(name)
    elif Path(name).is_file():
        recipe = parse_recipe(Path(name).read_bytes(), Path(name).name)
    else:
        raise ParameterError(f"--recipe takes {', '.join(BUILT_IN)} or a JSON file, not “{name}”")
    if options.voxel is not None:
        recipe = recipe.with_parameter("fuse", "voxel_mm", options.voxel)
    for setting in options.set:
        target, _, value = setting.partition("=")
        operation, _, parameter = target.partition(".")
        if not parameter or not value:
            raise ParameterError(f"--set takes operation.parameter=value, not “{setting}”")
        recipe = recipe.with_parameter(operation, parameter, _value(setting, value))
    return recipe


def _value(setting: str, value: str) -> str:
    """A value as it stands, or the text of the file that `@name` names: marks and lines are long."""
    if not value.startswith("@"):
        return value
    path = Path(value[1:])
    if not path.is_file():
        raise ParameterError(f"--set {setting}: there is no file {path}")
    try:
        return path.read_text(encoding="utf-8")
    except UnicodeError:
        raise ParameterError(f"--set {setting}: {path} is not text in UTF-8") from None


class _Steps:
    """What was run: the state after the last step, and what each told."""

    def __init__(self, state: ScanState) -> None:
        self.state = state
        self.told: list[dict[str, Any]] = []

    def add(self, step: RecipeStep, state: ScanState, report: Report, seconds: float) -> None:
        self.state = state
        self.told.append(
            {
                "operation": step.operation,
                "parameters": step.parameters,
                "seconds": round(seconds, 3),
                "report": finite(dict(report)),
            }
        )


def _write(out: Path, state: ScanState, steps: list[dict[str, Any]], kinds: list[str]) -> None:
    out.mkdir(parents=True, exist_ok=True)
    if state.mesh is not None:
        for kind in kinds:
            write_mesh(out / f"result.{kind}", delivered(state.mesh, state.notes))
    if state.points is not None:
        write_points(out / "points.ply", state.points)
    write_json(out / "report.json", finite(run_report(state, steps)))
    write_json(out / "placements.json", finite(placements(state)))
