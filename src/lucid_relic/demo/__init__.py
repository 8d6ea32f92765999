"""The Saltreach Museum (made up) and its loan exhibition "Things the Tide Left", modelled by code."""
