"""Commands with which a move begins."""
