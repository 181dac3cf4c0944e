"""Commands for the time after the launch."""
