"""Crawls, their audits, and what they feed."""
