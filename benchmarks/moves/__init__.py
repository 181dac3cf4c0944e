"""Site moves to measure matching on: made up, or told by files."""
