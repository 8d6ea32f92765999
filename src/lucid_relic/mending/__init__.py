"""Mending meshes: keeping pieces, reducing the triangle count."""
