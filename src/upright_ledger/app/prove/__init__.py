"""Rules: checked, built, rehearsed, replayed."""
