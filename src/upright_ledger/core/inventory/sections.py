"""Sections: entries that somebody gave a name, by patterns of their paths; and waves, which are
sections of a site that go live one after the other.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from typing import NamedTuple


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


ALL_LEFT = "*"
"""In place of a section: all that is in no earlier wave, entries without a section among them."""


class Wave(NamedTuple):
    """A wave, and what is live with it: its own sections and those of all waves before. own: as
    they were named. sections: empty where that is the whole site.
    """

    name: str
    own: tuple[str, ...]
    sections: frozenset[str]

    def has(self, section: str) -> bool:
        """Whether what belongs to a section (empty: to none) is live with it."""
        return not self.sections or section in self.sections


def waves_of(named: Sequence[tuple[str, Sequence[str]]]) -> list[Wave]:
    """Waves by their names and sections, in their order."""
    found, live = list[Wave](), frozenset[str]()
    whole = False
    for name, sections in named:
        whole = whole or ALL_LEFT in sections
        live |= frozenset(sections)
        found.append(Wave(name, tuple(sections), frozenset() if whole else live))
    return found
