"""Logs whose pieces several read at the same time."""
