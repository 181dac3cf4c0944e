"""Sections: entries that somebody gave a name, by patterns of their paths."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence


class Sections:
    """Named groups of entries, by patterns of their paths in the settings' order; the first that
    matches counts.

    In a pattern * stands for anything and {name} for one segment. One that begins with a site's
    name counts for that site.
    """

    def __init__(self, patterns: Iterable[tuple[str, Sequence[str]]]) -> None:
        self._patterns = [
            (name, re.compile("|".join(f"(?:{_pattern(t)})" for t in texts)))
            for name, texts in patterns
        ]

    def __bool__(self) -> bool:
        return bool(self._patterns)

    def of(self, site: str, key: str) -> str:
        """The section of an entry, or an empty string."""
        for name, pattern in self._patterns:
            if pattern.fullmatch(key) or pattern.fullmatch(site + key):
                return name
        return ""


def _pattern(text: str) -> str:
    parts = re.split(r"(\*|\{[^{}/]*\})", text.lower())
    return "".join(
        ".*" if p == "*" else "[^/]+" if p.startswith("{") else re.escape(p) for p in parts
    )
