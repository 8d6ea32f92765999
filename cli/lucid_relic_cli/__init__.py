"""`lucid-relic`: the same operations without a browser."""
