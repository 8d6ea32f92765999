"""Standing an object up: upright, centred, foot on the floor."""
