"""Commands that prove."""
