"""Judging meshes: watertight, manifold, crossing, and how far from a reference."""
