"""Answers and reviews that come in sheets."""
