"""Rules of servers' own files: what they say, and which of them answers."""
