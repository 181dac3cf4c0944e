"""One command a module; it loads when it is asked for."""
