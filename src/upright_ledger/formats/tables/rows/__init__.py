"""Rows of tables, whatever holds them."""
