"""Lucid Relic's core: from depth-and-colour frames to a measured, textured, watertight mesh.

Plain Python over NumPy, SciPy and Numba. Nothing here knows of Django, HTTP or an interface.
Units are millimetres and radians; axes are right-handed with Z up; a camera looks along its +Z.
"""

import hashlib
import os
import shutil
from pathlib import Path

# Threads of compiled loops sleep between loops: spinning would take the cores from whoever else has work.
os.environ.setdefault("OMP_WAIT_POLICY", "PASSIVE")

__version__ = "0.1.0"


def _features_of_processor(told: Path) -> str | None:
    """What compiled loops may use of a processor that has vectors of 512 bits: those too.

    The compiler leaves half of their width unused on some that it fears would slow down; the loops here are a sixth
    faster with all of it. None where there is nothing to say, by what Linux tells of it, without loading the compiler.
    """
    if not told.is_file() or " avx512f " not in told.read_text():
        return None
    from llvmlite import binding

    return f"{binding.get_host_cpu_features().flatten()},-prefer-256-bit"


def _cache_of_kernels(package: Path, features: str) -> Path:
    """Where loops compiled of exactly this code for such a processor are kept; those of other code are taken away.

    The compiler looks only at the file that a loop stands in, not at those it calls: after an update it would go on
    with old code of a changed neighbour.
    """
    code = hashlib.sha256(features.encode())
    for source in sorted(package.rglob("_[!_]*.py")):
        code.update(source.relative_to(package).as_posix().encode() + source.read_bytes())
    own = package / "__pycache__" / f"loops-{code.hexdigest()[:16]}"
    for other in own.parent.glob("loops-*"):
        if other != own:
            shutil.rmtree(other, ignore_errors=True)
    return own


if features := _features_of_processor(Path("/proc/cpuinfo")):
    os.environ.setdefault("NUMBA_CPU_FEATURES", features)
_processor = os.environ.get("NUMBA_CPU_FEATURES", "")
os.environ.setdefault("NUMBA_CACHE_DIR", str(_cache_of_kernels(Path(__file__).parent, _processor)))
