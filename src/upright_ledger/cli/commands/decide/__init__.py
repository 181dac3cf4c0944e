"""Commands that decide."""
