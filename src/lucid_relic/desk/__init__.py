"""The capture desk's computations that compose several stages: forecasts before a pass, coverage after it, checks."""
