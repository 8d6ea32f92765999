"""Text files with a scan in columns: which column is what, told by a header or by the numbers themselves."""

import re
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from lucid_relic.errors import InputError, quoted

SNIFFED_BYTES = 64 * 1024  # of the start of a file, which tell its columns
MOST_COLUMNS = 64
COMMENTS = ("#", "//", ";;")
UNIT_LENGTH = 0.02  # that a written normal may differ from 1
NAMES = {
    "x": "x", "y": "y", "z": "z", "nx": "nx", "ny": "ny", "nz": "nz", "normalx": "nx", "normaly": "ny", "normalz": "nz",
    "r": "r", "g": "g", "b": "b", "red": "r", "green": "g", "blue": "b",
}  # fmt: skip
AXES = ("x", "y", "z")


@dataclass(frozen=True)
class Layout:
    """How a text file is read: what separates its columns, the line its numbers begin at, and which column is what."""

    delimiter: str | None
    decimal_comma: bool
    first_line: int
    columns: dict[str, int]

    def of(self, *names: str) -> list[int] | None:
        """The columns of some names, or None when one is missing."""
        return [self.columns[n] for n in names] if all(n in self.columns for n in names) else None


def read_columns(path: Path) -> tuple[np.ndarray, np.ndarray | None, np.ndarray | None]:
    """Places (n, 3) float64, normals (n, 3) float32 and colours (n, 3) uint8 of a text file, None where it has none.

    Raises `InputError` for a file whose lines are no columns of numbers.
    """
    layout = _layout(path)
    wanted = [*AXES, *(n for n in ("nx", "ny", "nz", "r", "g", "b") if n in layout.columns)]
    try:
        with path.open(encoding="utf-8", errors="replace") as text:
            table = np.loadtxt(
                _lines(text, layout), delimiter=layout.delimiter, ndmin=2, comments=COMMENTS,
                usecols=[layout.columns[n] for n in wanted],
            )  # fmt: skip
    except ValueError as error:
        said = (str(error).splitlines() or [""])[0]
        raise InputError(
            f"{path.name}: lines must hold the same columns of numbers throughout: {quoted(said)}"
        ) from None
    part = {name: table[:, k] for k, name in enumerate(wanted)}
    normals = None
    if layout.of("nx", "ny", "nz"):
        normals = np.stack([part[n] for n in ("nx", "ny", "nz")], axis=1).astype(np.float32)
    return np.ascontiguousarray(table[:, :3]), normals, _colours(part) if layout.of("r", "g", "b") else None


def _lines(text: Iterator[str], layout: Layout) -> Iterator[str]:
    for number, line in enumerate(text):
        if number >= layout.first_line and line.strip():
            yield line.replace(",", ".") if layout.decimal_comma else line


def _colours(part: dict[str, np.ndarray]) -> np.ndarray:
    """Bytes: shares of 1 and colours of sixteen bits are brought to them."""
    values = np.stack([part[n] for n in ("r", "g", "b")], axis=1)
    highest = float(values.max(initial=0))
    if highest <= 1.0 and (values % 1).any():
        values = values * 255
    elif highest > 255:
        values = values / 257
    return np.clip(np.round(values), 0, 255).astype(np.uint8)


def _layout(path: Path) -> Layout:
    with path.open("rb") as source:
        head = source.read(SNIFFED_BYTES)
    whole = head if len(head) < SNIFFED_BYTES else head[: head.rfind(b"\n") + 1]
    lines = whole.decode("utf-8-sig", errors="replace").splitlines()
    full = [(k, line.strip()) for k, line in enumerate(lines) if line.strip() and not line.strip().startswith(COMMENTS)]
    if not full:
        raise InputError(f"{path.name}: there are no lines of numbers in this file")
    if len(full) > 1 and full[0][1].isdigit():  # how many points follow
        full = full[1:]
    delimiter, decimal_comma = _separator(full[-1][1])
    rows = [(k, _split(line, delimiter, decimal_comma)) for k, line in full]
    header = rows[0][1] if not any(_is_number(t) for t in rows[0][1]) and len(rows) > 1 else None
    numbers = rows[1:] if header else rows
    width = len(numbers[0][1])
    if not 3 <= width <= MOST_COLUMNS or not all(map(_is_number, numbers[0][1][:3])):
        raise InputError(f"{path.name}: lines must hold three numbers or more, not {quoted(full[0][1][:60])}")
    columns = _by_names(header) if header else None
    if columns is None:
        sample = [[float(t) if _is_number(t) else np.nan for t in row] for _, row in numbers if len(row) == width]
        columns = _by_numbers(np.array(sample))
    return Layout(delimiter, decimal_comma, numbers[0][0], columns)


def _separator(line: str) -> tuple[str | None, bool]:
    """What separates the columns of a line (None for blanks), and whether its decimals follow a comma."""
    if ";" in line:
        return ";", "," in line and "." not in line
    if "\t" in line and "," in line and "." not in line:
        return "\t", True
    return ("," if "," in line else None), False


def _split(line: str, delimiter: str | None, decimal_comma: bool) -> list[str]:
    tokens = [t.strip().strip('"') for t in (line.split(delimiter) if delimiter else line.split())]
    return [t.replace(",", ".") for t in tokens] if decimal_comma else tokens


def _is_number(token: str) -> bool:
    try:
        float(token)
    except ValueError:
        return False
    return True


def _by_names(header: list[str]) -> dict[str, int] | None:
    """Columns by a header's names; None when it does not name the three axes."""
    plain = [re.sub(r"[^a-z]", "", re.sub(r"[(\[].*", "", name.lower())) for name in header]
    columns: dict[str, int] = {}
    for k, name in enumerate(plain):
        if name in NAMES:
            columns.setdefault(NAMES[name], k)
    return columns if set(AXES) <= columns.keys() else None


def _by_numbers(sample: np.ndarray) -> dict[str, int]:
    """Columns by what some rows hold: places, then normals (of length 1), colours (whole bytes) and what is not used."""
    columns = dict(zip(AXES, range(3), strict=True))
    left = 3
    while left + 3 <= sample.shape[1]:
        triple = sample[:, left : left + 3]
        names = None
        if "nx" not in columns and _are_normals(triple):
            names = ("nx", "ny", "nz")
        elif "r" not in columns and _are_colours(triple):
            names = ("r", "g", "b")
        columns |= dict(zip(names, range(left, left + 3), strict=True)) if names else {}
        left += 3 if names else 1
    return columns


def _are_normals(triple: np.ndarray) -> bool:
    with np.errstate(invalid="ignore"):
        length = np.linalg.norm(triple, axis=1)
        return bool((np.abs(length - 1) < UNIT_LENGTH).mean() > 0.9)


def _are_colours(triple: np.ndarray) -> bool:
    with np.errstate(invalid="ignore"):
        whole = (triple % 1 == 0).all() and (triple >= 0).all()
        return bool(whole and triple.max() <= 65535)
