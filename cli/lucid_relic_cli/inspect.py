"""`lucid-relic inspect`: what is right and wrong with a mesh."""

import argparse
import json

from lucid_relic.inspection.distance import compare
from lucid_relic.inspection.mesh_check import check_mesh
from lucid_relic.inspection.print_check import PRINTERS, print_check
from lucid_relic.io.results import finite
from lucid_relic_cli.inputs import add_unit, open_mesh


def add_to(commands: argparse._SubParsersAction) -> None:
    """Add this command's options."""
    p = commands.add_parser("inspect", help="watertight, manifold, size, volume, distance to another")
    p.add_argument("mesh", metavar="MESH")
    p.add_argument("--against", metavar="MESH", help="compare with another mesh, both ways")
    p.add_argument("--print", choices=tuple(PRINTERS), dest="printer", help="check whether it can be printed with that")
    p.add_argument("--json", action="store_true", help="print JSON")
    add_unit(p)
    p.set_defaults(run=run)


def run(options: argparse.Namespace) -> None:
    """Print the figures."""
    mesh = open_mesh(options.mesh, options.unit)
    other = open_mesh(options.against, options.unit) if options.against else None
    figures = check_mesh(mesh).as_dict()
    if other is not None:
        figures["against"] = compare(mesh, other)
        figures |= {k: figures["against"][k] for k in ("mean_mm", "rms_mm", "p95_mm", "max_mm")}
    if options.printer:
        figures["print"] = print_check(mesh, PRINTERS[options.printer]).as_dict()
    figures = finite(figures)
    if options.json:
        print(json.dumps(figures, indent=1))
        return
    told = figures.pop("print", None)
    for name, value in figures.items():
        print(f"{name:20} {value}")
    if told:
        for check in told["checks"]:
            print(f"{'holds' if check['holds'] else 'FAILS':6} {check['name']:13} {check['words']}")
        print(f"{'ready to print' if told['ready'] else 'not ready to print'}: {told['printer']}")
