"""The command line: parses, calls a task, shows what came of it. Nothing is computed here."""
