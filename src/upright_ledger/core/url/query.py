"""Queries by their parameters."""

from __future__ import annotations


def given(query: str, names: frozenset[str]) -> dict[str, str] | None:
    """The parameters of these names in a query, as sent; None where one of them is given twice."""
    values: dict[str, str] = {}
    if names and query:
        for part in query.split("&"):
            name, _, value = part.partition("=")
            if name in names:
                if name in values:
                    return None
                values[name] = value
    return values
