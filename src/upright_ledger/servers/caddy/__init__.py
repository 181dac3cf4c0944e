"""Rules for Caddy."""
