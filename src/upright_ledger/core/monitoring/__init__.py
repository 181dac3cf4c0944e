"""What fails after a launch, why, and what became of what was answered."""
