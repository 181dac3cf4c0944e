"""Placing: which entry an address belongs to, or why it is set aside."""
