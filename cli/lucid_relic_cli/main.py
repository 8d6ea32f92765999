"""Entry of the command line: usage, one clear sentence for every fault, and the exit codes.

0 done; 2 bad input or usage, nothing written; 3 done but not accepted, with the report written.
"""

import argparse
import sys

from lucid_relic.errors import LucidRelicError, NotAccepted
from lucid_relic_cli import align, board, bundle, capture, convert, coverage, forecast, inspect, process, sweep, track

BAD_INPUT, NOT_ACCEPTED = 2, 3


def parser() -> argparse.ArgumentParser:
    """The whole command line."""
    top = argparse.ArgumentParser(
        prog="lucid-relic", description="From depth-and-colour frames to measured, textured meshes."
    )
    commands = top.add_subparsers(dest="command", required=True)
    for module in (capture, sweep, board, forecast, coverage, track, process, align, inspect, convert, bundle):
        module.add_to(commands)
    return top


def main(arguments: list[str] | None = None) -> int:
    """Run the command line; returns the exit code."""
    options = parser().parse_args(arguments)
    try:
        options.run(options)
    except NotAccepted as refusal:
        print(f"lucid-relic: not accepted: {refusal}", file=sys.stderr)
        return NOT_ACCEPTED
    except (LucidRelicError, OSError) as error:
        print(f"lucid-relic: {error}", file=sys.stderr)
        return BAD_INPUT
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
