"""Rules for HAProxy."""
