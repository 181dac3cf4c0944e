"""Upright Ledger: the books of a site move."""

__version__ = "0.1.0"
