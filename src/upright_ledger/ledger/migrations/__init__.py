"""Ledgers of earlier versions."""
