"""`lucid-relic board`: the lens from pictures of the board."""

import argparse
import json
from pathlib import Path

import numpy as np
from PIL import Image

from lucid_relic.calibration.board import Board, SeenBoard, find_board
from lucid_relic.calibration.lens import check_lens
from lucid_relic.errors import InputError, NotAccepted

SUFFIXES = (".png", ".jpg", ".jpeg")


def add_to(commands: argparse._SubParsersAction) -> None:
    """Add this command's options."""
    standard = Board()
    p = commands.add_parser("board", help="check a lens by pictures of the board in several positions")
    p.add_argument("folder", metavar="DIR", help="pictures (PNG or JPEG)")
    p.add_argument(
        "--squares", metavar="COLUMNS,ROWS,MM,MARKER_MM[,FIRST]",
        help=f"of another board than {standard.columns},{standard.rows},{standard.square_mm:g},{standard.marker_mm:g}",
    )  # fmt: skip
    p.add_argument("--print", dest="print_to", metavar="PNG", help="write the board's picture at 300 dpi and stop")
    p.add_argument("--json", action="store_true", help="print JSON")
    p.set_defaults(run=run)


def run(options: argparse.Namespace) -> None:
    """Print what the pictures tell; exit code 3 when the lens is not told well."""
    board = _board(options.squares)
    if options.print_to:
        Image.fromarray(board.picture(300 / 25.4)).save(options.print_to, dpi=(300, 300))
        return
    seen, sizes, unread = _read(Path(options.folder), board)
    if len(sizes) > 1:
        raise InputError(f"{options.folder}: the pictures have {len(sizes)} sizes; a lens is checked at one")
    ((width, height),) = sizes
    found = check_lens(seen, width, height)
    c = found.camera
    figures = {
        "fx": c.fx, "fy": c.fy, "cx": c.cx, "cy": c.cy, "distortion": list(c.distortion), "rms_px": found.rms_px,
        "field": found.field, "ok": found.ok, "why": list(found.why), "pictures": len(seen), "unread": unread,
    }  # fmt: skip
    if options.json:
        print(json.dumps(figures, indent=1))
    else:
        for name, value in figures.items():
            print(f"{name:11} {value}")
    if not found.ok:
        raise NotAccepted(" ".join(found.why))


def _board(text: str | None) -> Board:
    if text is None:
        return Board()
    try:
        numbers = [float(t) for t in text.split(",")]
    except ValueError:
        numbers = []
    if len(numbers) not in (4, 5):
        raise InputError(f"--squares takes COLUMNS,ROWS,MM,MARKER_MM and perhaps FIRST, not “{text}”")
    return Board(int(numbers[0]), int(numbers[1]), numbers[2], numbers[3], int(numbers[4]) if len(numbers) == 5 else 0)


def _read(folder: Path, board: Board) -> tuple[list[SeenBoard], set[tuple[int, int]], dict[str, str]]:
    """Boards seen, sizes of the pictures they were seen in, and why the other pictures cannot be used."""
    files = sorted(p for p in folder.iterdir() if p.suffix.lower() in SUFFIXES) if folder.is_dir() else []
    if not files:
        raise InputError(f"{folder}: there are no pictures (PNG or JPEG) here")
    seen, sizes, unread = [], set(), {}
    for path in files:
        try:
            with Image.open(path) as image:
                picture = np.asarray(image.convert("L"))
        except Exception:  # a damaged image makes the decoder raise whatever it likes
            raise InputError(f"{path.name}: this picture is damaged or not a PNG or JPEG") from None
        found = find_board(picture, board)
        if isinstance(found, SeenBoard):
            seen.append(found)
            sizes.add((picture.shape[1], picture.shape[0]))
        else:
            unread[path.name] = found.why
    if not seen:
        name, why = next(iter(unread.items()))
        raise InputError(f"{name}: {why[0].lower()}{why[1:]} The same goes for all {len(unread)} pictures.")
    return seen, sizes, unread
