"""From photographs to the colour of a mesh: charts, packing, choosing and blending views."""
