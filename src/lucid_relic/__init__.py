"""Lucid Relic's core: from depth-and-colour frames to a measured, textured, watertight mesh.

Plain Python over NumPy, SciPy and Numba. Nothing here knows of Django, HTTP or an interface.
Units are millimetres and radians; axes are right-handed with Z up; a camera looks along its +Z.
"""

import os

# Threads of compiled loops sleep between loops: spinning would take the cores from whoever else has work.
os.environ.setdefault("OMP_WAIT_POLICY", "PASSIVE")

__version__ = "0.1.0"
