"""Every file format for meshes and points: one file each, one line here.

A format is its suffixes, what it can carry, and the functions it has. Suffixes stand nowhere else.
"""

from pathlib import Path

from lucid_relic.errors import InputError, quoted
from lucid_relic.io.formats.base import Format, ScanOfFile, cause
from lucid_relic.io.formats.e57 import E57
from lucid_relic.io.formats.glb import GLB
from lucid_relic.io.formats.obj import OBJ
from lucid_relic.io.formats.off import OFF
from lucid_relic.io.formats.ply import PLY
from lucid_relic.io.formats.stl import STL
from lucid_relic.io.formats.threemf import THREEMF
from lucid_relic.io.formats.xyz import XYZ

FORMATS: tuple[Format, ...] = (STL, OBJ, PLY, THREEMF, GLB, OFF, XYZ, E57)


def suffix_of(path: str | Path) -> str:
    """The lower-case suffix of a file's name, without the dot."""
    return Path(path).suffix.lower().lstrip(".")


def format_of(path: str | Path) -> Format | None:
    """The format of a file by its name, or None."""
    suffix = suffix_of(path)
    return next((f for f in FORMATS if suffix in f.suffixes), None)


def named_format(name: str) -> Format:
    """The format of that name; raises `InputError` when there is none."""
    found = next((f for f in FORMATS if f.name == name), None)
    if found is None:
        raise InputError(f"There is no format {quoted(name)}; known are: {', '.join(f.name for f in FORMATS)}.")
    return found


def names(what: str) -> tuple[str, ...]:
    """Names of the formats that have a function: read_mesh, write_mesh, read_points or write_points."""
    return tuple(f.name for f in FORMATS if getattr(f, what) is not None)


__all__ = [
    "FORMATS",
    "Format",
    "ScanOfFile",
    "cause",
    "format_of",
    "named_format",
    "names",
    "suffix_of",
]
