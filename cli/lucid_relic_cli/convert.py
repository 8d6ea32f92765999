"""`lucid-relic convert`: read a mesh or points, scale, choose the way up, write."""

import argparse

import numpy as np

from lucid_relic.errors import ParameterError
from lucid_relic.io.formats import format_of
from lucid_relic.io.meshes import read_mesh, read_points, write_mesh, write_points


def add_to(commands: argparse._SubParsersAction) -> None:
    """Add this command's options."""
    p = commands.add_parser("convert", help="convert a mesh or points to another format")
    p.add_argument("source", metavar="IN")
    p.add_argument("target", metavar="OUT")
    p.add_argument("--scale", type=float, default=1.0, metavar="F")
    p.add_argument("--up", choices=("y", "z"), default="z", help="the way up of the file written")
    p.set_defaults(run=run)


def run(options: argparse.Namespace) -> None:
    """Convert; files in are in millimetres with z up, GLB is turned by its own rules."""
    if not np.isfinite(options.scale) or options.scale <= 0:
        raise ParameterError(f"--scale must be greater than 0, not {options.scale}")
    motion = np.diag([options.scale] * 3 + [1.0])
    if options.up == "y":
        turn = np.eye(4)
        turn[:3, :3] = [[1, 0, 0], [0, 0, 1], [0, -1, 0]]
        motion = turn @ motion
    if _points_only(options.source) or _points_only(options.target):
        cloud = read_points(options.source)
        moved = (cloud.points @ motion[:3, :3].T).astype(np.float32)
        write_points(options.target, type(cloud)(moved, cloud.normals, cloud.colours))
        return
    write_mesh(options.target, read_mesh(options.source).transformed(motion))


def _points_only(path: str) -> bool:
    """Whether a file's format carries points and no meshes."""
    found = format_of(path)
    return found is not None and found.read_mesh is None and found.read_points is not None
