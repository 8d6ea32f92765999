"""Putting frames and passes where they belong: table axis, find fit, settle."""
