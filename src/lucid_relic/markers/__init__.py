"""Marker dots: what they look like, where photographs and depth images show them, and the map they make."""
