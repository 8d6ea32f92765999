"""Depth from a plain camera and a laser line that is swept by hand before a corner of two known walls."""
