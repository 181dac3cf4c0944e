"""What the lines of a log amount to, read as one or in pieces."""
