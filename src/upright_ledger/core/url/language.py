"""Languages of pages: declared ones, and those that a host or a first folder names."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from functools import lru_cache

OTHER = "-"
"""The language of pages without a mark, on a site that marks pages of other languages."""

# Codes that stand for a language where hosts and folders name one. Those that are English words or
# common names of folders ("it", "no", "is", "my", "id") need another beside them.
_CODES = frozenset(
    [
        "ar", "bg", "bn", "ca", "cs", "cy", "da", "de", "el", "en", "es", "et", "eu", "fa",
        "fi", "fr", "ga", "gl", "he", "hi", "hr", "hu", "hy", "ja", "ka", "ko", "lt", "lv",
        "mk", "mt", "nb", "nl", "nn", "pl", "pt", "ro", "ru", "sk", "sl", "sq", "sr", "sv",
        "th", "tr", "uk", "ur", "vi", "zh",
    ]
)  # fmt: skip
_WORDS = frozenset("id is it my no so to".split())  # noqa: SIM905
_ALL = _CODES | _WORDS
_FORM = re.compile(r"([a-z]{2})(?:[-_][a-z]{2,4})?\Z", re.IGNORECASE)
_FEWEST = 2  # pages under a mark


def code_of(text: str) -> str:
    """The language of "en", "en-GB" or "EN_us" as two small letters; empty where the text is
    none.
    """
    match = _FORM.match(text.strip())
    return match[1].lower() if match and match[1].lower() in _ALL else ""


def page_languages(pages: Sequence[tuple[str, str, str]]) -> list[str]:
    """The language of each page (host, path, declared language): a code, OTHER, or empty where
    nothing tells.
    """
    marks = [_mark(host, path) for host, path, _ in pages]
    counts = Counter(marks)
    declared = {code_of(d) for _, _, d in pages if d} - {""}
    plain = {m for m, n in counts.items() if m in _CODES and (n >= _FEWEST or m in declared)}
    known = plain | {
        m for m, n in counts.items() if m in _WORDS and (m in declared or (plain and n >= _FEWEST))
    }
    rest = OTHER if known else ""
    return [
        code_of(d) or (m if m in known else rest) for m, (_, _, d) in zip(marks, pages, strict=True)
    ]


def may_match(one: str, other: str, ones: frozenset[str], others: frozenset[str]) -> bool:
    """Whether pages of two languages may be one page. ones, others: all languages of either site.

    A page without a mark is in none of the languages that its own site marks.
    """
    if not one or not other or one == other:
        return True
    if OTHER in {one, other}:
        return (other not in ones) if one == OTHER else (one not in others)
    return False


def marked(authority: str, target: str) -> str:
    """The language that a host or a first folder plainly names ("de.…", "/de/…"), or an empty
    string.
    """
    if authority[2:3] != "." and target[3:4] not in {"/", "-", "_"}:
        return ""
    code = _mark(authority, target.partition("?")[0])
    return code if code in _CODES else ""


def _mark(host: str, path: str) -> str:
    first = path.lstrip("/").partition("/")
    return _label(host) or (code_of(first[0]) if first[1] else "")


@lru_cache(maxsize=1 << 10)
def _label(host: str) -> str:
    """The language that a host names."""
    label = host.partition(".")[0].lower()
    return label if label in _ALL else ""
