"""Commands that collect."""
