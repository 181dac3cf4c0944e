"""What a survey amounts to: one audit a module."""
