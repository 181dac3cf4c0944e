"""Tables whose rows are lines of a text."""
