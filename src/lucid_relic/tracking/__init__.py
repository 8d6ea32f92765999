"""Following a head live: frame to model, verdicts, losses and finds, slips, loops, and the model that grows meanwhile."""
