"""Logs read as columns: blocks of lines, many thousands at a time."""
