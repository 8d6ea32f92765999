"""Before and during a pass: what will be held, what drops out, what a path costs and sees, what has been seen."""
