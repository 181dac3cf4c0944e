"""The words of nginx's configuration language, after nginx's own rules (ngx_conf_read_token)."""

from __future__ import annotations

import re
from collections.abc import Iterator

_ESCAPES = {"t": "\t", "n": "\n", "r": "\r", '"': '"', "'": "'", "\\": "\\"}
_ESCAPED = re.compile(r"\\([tnr\"'\\])")
# A backslash before any other sign stands for itself; nginx looks at that sign anew.
_QUOTED = {
    mark: rf"{mark}((?:[^{mark}\\]++|\\[tnr\"'\\]|\\(?![tnr\"'\\]))*+){mark}" for mark in "\"'"
}
_BARE = r"((?:[^\s;{\\]|\\.?|(?<=\$)\{)+)"
_WORD = re.compile(
    rf"\s+|\#[^\n]*|([;{{}}])|{_QUOTED[chr(34)]}|{_QUOTED[chr(39)]}|([\"'])|{_BARE}", re.DOTALL
)
_DOUBLE, _SINGLE, _ENDLESS = 2, 3, 4
# What most of a large file is: lines of two plain words in quotes.
_ENTRY = r'\s*"([^"\\]*+)"[ \t]+"([^"\\]*+)";'
_ENTRIES = re.compile(f"(?:{_ENTRY}){{1,1000}}+")
_ENTRY_OF_THEM = re.compile(_ENTRY)


def words(text: str) -> Iterator[str]:
    """The words of a configuration; quoted words begin with a NUL so that they cannot be taken for
    syntax. Raises IndexError where a quoted word does not end.
    """
    at = 0
    while at < len(text):
        at, word = _word(text, at)
        if word:
            yield word


def _word(text: str, at: int) -> tuple[int, str]:
    """The word that begins at a place, and where it ends; empty for blanks and remarks."""
    found = _WORD.search(text, at)
    if found is None:
        return len(text), ""
    kind = found.lastindex
    if kind in {_DOUBLE, _SINGLE}:
        word = found[kind]
        bare = _ESCAPED.sub(lambda m: _ESCAPES[m[1]], word) if "\\" in word else word
        return found.end(), f"\0{bare}"
    if kind == _ENDLESS:
        raise IndexError("a quoted word does not end")
    return found.end(), "" if kind is None else found[kind]


def statements(text: str) -> Iterator[tuple[list[str], str]]:
    """The words of each statement, as `words` tells them, and what ends it: a semicolon or a
    bracket. Words behind the last one end with an empty text.
    """
    at, current = 0, list[str]()
    while at < len(text):
        if not current and (entries := _ENTRIES.match(text, at)):
            for one, other in _ENTRY_OF_THEM.findall(text, at, entries.end()):
                yield [f"\0{one}", f"\0{other}"], ";"
            at = entries.end()
            continue
        at, word = _word(text, at)
        if word in {";", "{", "}"}:
            yield current, word
            current = []
        elif word:
            current.append(word)
    if current:
        yield current, ""
