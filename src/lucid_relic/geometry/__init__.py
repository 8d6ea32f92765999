"""Geometry that every stage builds on: rigid motions, depth maps, neighbours, ray casting."""
