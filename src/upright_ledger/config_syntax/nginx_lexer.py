"""The words of nginx's configuration language, after nginx's own rules (ngx_conf_read_token)."""

from __future__ import annotations

import re
from collections.abc import Iterator

_ESCAPES = {"t": "\t", "n": "\n", "r": "\r", '"': '"', "'": "'", "\\": "\\"}
_ESCAPED = re.compile(r"\\([tnr\"'\\])")
# A backslash before any other sign stands for itself; nginx looks at that sign anew.
_QUOTED = {
    mark: re.compile(rf"{mark}((?:[^{mark}\\]++|\\[tnr\"'\\]|\\(?![tnr\"'\\]))*+){mark}", re.DOTALL)
    for mark in "\"'"
}


def words(text: str) -> Iterator[str]:
    """The words of a configuration; quoted words begin with a NUL so that they cannot be taken for
    syntax.
    """
    at, end = 0, len(text)
    while at < end:
        char = text[at]
        if char.isspace():
            at += 1
        elif char == "#":
            at = text.find("\n", at) if "\n" in text[at:] else end
        elif char in ";{}":
            yield char
            at += 1
        elif char in "\"'":
            word, at = _quoted(text, at)
            yield "\0" + word
        else:
            start = at
            while (
                at < end
                and not text[at].isspace()
                and (text[at] not in ";{" or text[at - 1 : at + 1] == "${")
            ):
                at += 2 if text[at] == "\\" else 1
            yield text[start:at]


def _quoted(text: str, at: int) -> tuple[str, int]:
    """The word that begins with the quote at this place, and where it ends. Raises IndexError where
    it does not.
    """
    match = _QUOTED[text[at]].match(text, at)
    if match is None:
        raise IndexError("a quoted word does not end")
    return _ESCAPED.sub(lambda m: _ESCAPES[m[1]], match[1]), match.end()
