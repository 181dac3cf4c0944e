"""Logs of requests, line by line and in columns."""
