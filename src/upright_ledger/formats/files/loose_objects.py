"""Objects as programs print them that do not write JSON: Python's and Ruby's texts of a dictionary,
JavaScript's of an object, EDN's maps.

Names stand in quotes, bare or behind a colon; between them and their values stands `:`, `=>`, `=`
or nothing.
"""

from __future__ import annotations

import re
from typing import Any

_BEGIN = re.compile(
    r"""\{\s*(?:["'][^"'\n]{0,100}["']\s*(?:=>|:)|:[A-Za-z]|[A-Za-z_]\w*\s*(?::\s|=>))"""
)
_TOKEN = re.compile(
    r"\s*+(?:"
    r'"(?P<double>[^"\\]*+(?:\\.[^"\\]*+)*+)"|'
    r"'(?P<single>[^'\\]*+(?:\\.[^'\\]*+)*+)'|"
    r"(?P<sign>=>|[{}\[\](),:=])|"
    r"(?P<word>(?:(?!=>)[^\s{}\[\](),=\"'])++))",
    re.DOTALL,
)
_ESCAPED = re.compile(r"(?:\\x[0-9A-Fa-f]{2})+|\\u([0-9A-Fa-f]{4})|\\(.)", re.DOTALL)
_CONTROLS = {"n": "\n", "r": "\r", "t": "\t"}
_OPENING = {"{": "}", "[": "]", "(": ")"}
_BETWEEN = frozenset([":", "=>", "="])
_NOTHING = frozenset(["nil", "None", "null", "undefined"])
_JSON_VALUE = re.compile(
    r"""\s*+(?:["'{\[]|(?:-?\d+(?:\.\d+)?(?:[eE][+-]?\d+)?|[Tt]rue|[Ff]alse|null|None)\s*+[,}])"""
)
"""With which a value begins behind a name as JSON has it."""
_DEEPEST, _MOST = 8, 2_000
_SIGNS = 1 << 16
"""Characters of one object, values in it, and how deep they may stand."""


def loose_begin(text: str, at: int = 0) -> int:
    """Where the next such object may begin; -1: nowhere."""
    match = _BEGIN.search(text, at)
    return match.start() if match is not None else -1


def loose_object(text: str, at: int = 0) -> tuple[dict[str, Any], int]:
    """The object that begins there, and where it ends. Raises ValueError."""
    reader = _Reader(text, at)
    found = reader.value(0)
    if not isinstance(found, dict) or not found:
        raise ValueError("it is no object with names")
    return found, reader.at


class _Reader:
    """Reads values of a text from a place on, one after the other."""

    def __init__(self, text: str, at: int) -> None:
        self._text, self._end = text, at + _SIGNS
        self._left = _MOST
        self.at = at

    def _next(self) -> tuple[str, str]:
        """The next token: what kind it is, and its text. Raises ValueError at the end."""
        match = _TOKEN.match(self._text, self.at, self._end)
        self._left -= 1
        if match is None or self._left < 0:
            raise ValueError("it is no whole object")
        self.at = match.end()
        kind = match.lastgroup or ""
        return kind, match[kind]

    def _is_next(self, *signs: str) -> bool:
        """Whether one of these signs comes next, which is then taken."""
        before = self.at
        kind, text = self._next()
        if kind == "sign" and text in signs:
            return True
        self.at = before
        return False

    def value(self, depth: int) -> Any:
        """The next value: a text, a list, or names with values. Raises ValueError."""
        kind, text = self._next()
        if kind in {"double", "single"}:
            meant = _meant_by_bytes if kind == "double" else _meant_by_letters
            return _ESCAPED.sub(meant, text) if "\\" in text else text
        if kind == "word":
            # Python writes tuples and times as calls: what stands in them is left out.
            if self._is_call():
                return self._inner("(", depth)
            return None if text in _NOTHING else text
        if text not in _OPENING:
            raise ValueError("a value is missing")
        return self._inner(text, depth)

    def _is_call(self) -> bool:
        return self._text[self.at : self.at + 1] == "(" and self._is_next("(")

    def _inner(self, opening: str, depth: int) -> Any:
        if depth >= _DEEPEST:
            raise ValueError("it is nested too deeply")
        return self._names(depth) if opening == "{" else self._list(_OPENING[opening], depth)

    def _list(self, closing: str, depth: int) -> list[Any]:
        found = []
        while not self._is_next(closing):
            if not self._is_next(",", ":", "=", "=>"):
                found.append(self.value(depth + 1))
        return found

    def _names(self, depth: int) -> dict[str, Any]:
        found: dict[str, Any] = {}
        while not self._is_next("}"):
            if self._is_next(","):
                continue
            # of :name the sign is left out; some names hold one
            while self._is_next(":"):
                pass
            kind, name = self._next()
            if kind == "sign":
                raise ValueError("a name is missing")
            if kind == "word":
                name = name.strip(":")
            is_json = kind == "double" and self._text[self.at : self.at + 1] == ":"
            if self._is_next(*_BETWEEN):
                while self._is_next(":"):
                    pass
            if is_json and not _JSON_VALUE.match(self._text, self.at, self._end):
                raise ValueError("a value is damaged")
            found.setdefault(name, self.value(depth + 1))
        return found


def _meant_by_bytes(escape: re.Match[str]) -> str:
    """What an escape stands for where \\xHH are bytes of UTF-8, as servers write them. Raises
    ValueError for others.
    """
    if escape[2] is not None:
        return _CONTROLS.get(escape[2], escape[2])
    if escape[1] is not None:
        letter = chr(int(escape[1], 16))
        return "\ufffd" if "\ud800" <= letter <= "\udfff" else letter
    return bytes.fromhex(escape[0].replace("\\x", "")).decode()


def _meant_by_letters(escape: re.Match[str]) -> str:
    """What an escape stands for where \\xHH is a letter below U+0100, as Python writes them."""
    if escape[1] is None and escape[2] is None:
        return bytes.fromhex(escape[0].replace("\\x", "")).decode("latin-1")
    return _meant_by_bytes(escape)
