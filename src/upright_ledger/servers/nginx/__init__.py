"""Rules for nginx."""
