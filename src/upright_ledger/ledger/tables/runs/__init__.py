"""Rehearsals, replays and surveys: derived data."""
