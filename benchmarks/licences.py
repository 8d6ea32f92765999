"""List the licence of every installed Python and npm package, and fail on one that is not permissive."""

import json
import subprocess
import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
FORBIDDEN = ("AGPL", "GPL-", "GPLv", "GNU GENERAL", "GNU AFFERO", "COMMERCIAL", "PROPRIETARY", "SSPL", "BUSL")
ALLOWED_ANYWAY = ("LGPL", "LESSER")
# Development tools that are run, not shipped.
TOOLS = {"pylint", "gltf-validator"}


def python_licences() -> list[tuple[str, str]]:
    command = [sys.executable, "-m", "piplicenses", "--format=json", "--from=mixed"]
    rows = json.loads(subprocess.run(command, capture_output=True, text=True, check=True).stdout)
    return [(row["Name"], row["License"]) for row in rows]


def npm_licences() -> list[tuple[str, str]]:
    lock = json.loads((ROOT / "web/package-lock.json").read_text())
    found = []
    for path in lock["packages"]:
        manifest = ROOT / "web" / path / "package.json"
        if path and manifest.exists():
            data = json.loads(manifest.read_text())
            found.append((data.get("name", path), str(data.get("license", "unknown"))))
    return found


def main() -> int:
    bad = []
    for name, licence in sorted(python_licences() + npm_licences()):
        print(f"{name:45} {licence}")
        upper = licence.upper()
        if name not in TOOLS and any(f in upper for f in FORBIDDEN) and not any(a in upper for a in ALLOWED_ANYWAY):
            bad.append(f"{name}: {licence}")
    for line in bad:
        print(f"not permissive: {line}", file=sys.stderr)
    return 1 if bad else 0


if __name__ == "__main__":
    raise SystemExit(main())
