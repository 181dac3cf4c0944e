"""Faults in planned rules."""
