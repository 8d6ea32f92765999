"""Lucid Relic's core: from depth-and-colour frames to a measured, textured, watertight mesh.

Plain Python over NumPy, SciPy and Numba. Nothing here knows of Django, HTTP or an interface.
Units are millimetres and radians; axes are right-handed with Z up; a camera looks along its +Z.
"""

__version__ = "0.1.0"
