"""Triage: what fails after a launch, where it comes from, and what became of it since it was answered."""
