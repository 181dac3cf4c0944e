"""Queries by their parameters."""

from __future__ import annotations

import re

from upright_ledger.core.word import Word


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


class QueryPolicy(Word):
    """What a rule carries of a request's query."""

    CARRY_TRACKING = "carry-tracking"
    DROP = "drop"
    CARRY = "carry"


# A carried value may hold RFC 3986 query characters only, escapes whole.
_TRACKED = r"[A-Za-z0-9._~!$'()*+,;=:@/?-]*"


# Written out, so that matchers with a small stack need none of it for long values.
TRACKED_VALUE = rf"{_TRACKED}(?:%[0-9A-Fa-f][0-9A-Fa-f]{_TRACKED})*"


def tracked_pattern(name: str) -> re.Pattern[str]:
    """Finds the first well-formed value of a carried parameter; the same text serves the
    dialects.
    """
    return re.compile(rf"(?:^|&){re.escape(name)}=({TRACKED_VALUE})(?:&|$)")
