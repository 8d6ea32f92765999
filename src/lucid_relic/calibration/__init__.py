"""Can the instrument be trusted: lens and table axis from a board, colours from a card, lengths from a reference piece."""
