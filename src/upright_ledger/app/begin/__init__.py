"""A new ledger, and where one is."""
