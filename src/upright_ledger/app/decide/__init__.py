"""Answers: proposed, decided, reviewed, listed."""
