"""Tables of addresses, and what their columns mean."""
