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


def words(text: str) -> Iterator[str]:
    """The words of a configuration; quoted words begin with a NUL so that they cannot be taken for
    syntax. Raises IndexError where a quoted word does not end.
    """
    for found in _WORD.finditer(text):
        kind = found.lastindex
        if kind in {_DOUBLE, _SINGLE}:
            word = found[kind]
            yield "\0" + (_ESCAPED.sub(lambda m: _ESCAPES[m[1]], word) if "\\" in word else word)
        elif kind == _ENDLESS:
            raise IndexError("a quoted word does not end")
        elif kind is not None:
            yield found[kind]
