"""Words, tables and keys in a terminal."""
