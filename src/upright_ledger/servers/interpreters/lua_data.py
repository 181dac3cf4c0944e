"""Lua files that hold data: assignments of strings, truth values and tables, and functions that
only bundle such lines.
"""

from __future__ import annotations

import re
from typing import Any

from upright_ledger.servers.interpreters import NotUnderstoodError

Table = dict[Any, Any]
_TOKEN = re.compile(
    # What most lines of a large file are: a plain string put into a table.
    r'\s*(?P<entry>(?<![^\n])([A-Za-z_]\w*)\["([^"\\\n]*)"\]="([^"\\\n]*)"(?=\n|\Z))|'
    r'\s+|--[^\n]*|(?P<string>"(?:[^"\\\n]|\\[0-9]{3}|\\["\\])*")|(?P<name>[A-Za-z_]\w*)|'
    r"(?P<sign>[{}()\[\]=,;.])"
)
_ENTRY = "entry"
_ESCAPE = re.compile(r'\\(?:([0-9]{3})|(["\\]))')
_WORDS = {"true": True, "false": False}
_MOST_LOCALS = 200


def read_module(text: str) -> Table:
    """The table that a module returns. Raises NotUnderstoodError."""
    return _Reader(text).module()


def _character(escape: re.Match[str]) -> str:
    if escape[1] and int(escape[1]) > 255:
        raise NotUnderstoodError(f"no byte: {escape[0]}")
    return escape[2] or chr(int(escape[1]))


class _Reader:
    def __init__(self, text: str) -> None:
        self._tokens: list[tuple[str, Any]] = []
        at = 0
        while at < len(text):
            match = _TOKEN.match(text, at)
            if match is None:
                raise NotUnderstoodError(f"no Lua: {text[at : at + 80]!r}")
            at = match.end()
            kind = match.lastgroup
            if kind == _ENTRY:
                self._tokens.append((kind, match.group(2, 3, 4)))
            elif kind is not None:
                self._tokens.append((kind, match[0]))
        self._at = 0
        self._names: Table = {}
        self._bundles = 0

    def module(self) -> Table:
        while self._at < len(self._tokens):
            kind, told = self._tokens[self._at]
            if kind == _ENTRY:
                self._at += 1
                self._put(*told)
            elif self._takes("return"):
                found = self._value()
                if self._at < len(self._tokens) or self._bundles or not isinstance(found, dict):
                    raise NotUnderstoodError("the module does not end with its table")
                return found
            elif self._takes(";"):
                self._expect("(", "function", "(", ")")
                self._bundles += 1
            elif self._takes("end"):
                self._expect(")", "(", ")")
                self._bundles -= 1
            else:
                self._assignment()
        raise NotUnderstoodError("the module returns nothing")

    def _assignment(self) -> None:
        if self._takes("local"):
            name = self._name()
            if name in self._names or len(self._names) >= _MOST_LOCALS:
                raise NotUnderstoodError(f"{name} is declared twice, or one name too many")
            self._expect("=")
            self._names[name] = self._value()
            return
        name = self._name()
        if name not in self._names:
            raise NotUnderstoodError(f"{name} was not declared")
        place: Any = self._names
        key = name
        while not self._takes("="):
            place = place.get(key)
            if not isinstance(place, dict):
                raise NotUnderstoodError(f"{key} is no table")
            key = self._key()
        if place is self._names:
            raise NotUnderstoodError(f"{name} is put in place of another")
        if key in place:
            raise NotUnderstoodError(f"{key!r} is given twice")
        place[key] = self._value()

    def _put(self, name: str, key: str, value: str) -> None:
        """A line that is an assignment of a plain string to a plain key."""
        place = self._names.get(name)
        if not isinstance(place, dict):
            raise NotUnderstoodError(f"{name} is no table")
        if key in place:
            raise NotUnderstoodError(f"{key!r} is given twice")
        place[key] = value

    def _key(self) -> str:
        if self._takes("."):
            return self._name()
        self._expect("[")
        key = self._value()
        self._expect("]")
        if not isinstance(key, str):
            raise NotUnderstoodError(f"no key: {key!r}")
        return key

    def _value(self) -> Any:
        kind, text = self._next()
        if kind == "string":
            return _ESCAPE.sub(_character, text[1:-1])
        if text == "{":
            return self._table()
        if text in _WORDS:
            return _WORDS[text]
        if kind == "name" and text in self._names:
            return self._names[text]
        raise NotUnderstoodError(f"no value: {text}")

    def _table(self) -> Table:
        found: Table = {}
        count = 0
        while not self._takes("}"):
            key: Any
            if self._peek() == "[":
                key = self._key()
                self._expect("=")
            elif self._tokens[self._at][0] == "name" and self._peek(1) == "=":
                key = self._name()
                self._expect("=")
            else:
                count += 1
                key = count
            if key in found:
                raise NotUnderstoodError(f"{key!r} is given twice")
            found[key] = self._value()
            if not self._takes(",") and self._peek() != "}":
                raise NotUnderstoodError(f"no table: {self._peek()}")
        return found

    def _next(self) -> tuple[str, str]:
        if self._at == len(self._tokens):
            raise NotUnderstoodError("the file ends too early")
        self._at += 1
        return self._tokens[self._at - 1]

    def _peek(self, further: int = 0) -> str:
        if self._at + further >= len(self._tokens):
            raise NotUnderstoodError("the file ends too early")
        text: str = self._tokens[self._at + further][1]
        return text

    def _takes(self, text: str) -> bool:
        if self._peek() != text:
            return False
        self._at += 1
        return True

    def _expect(self, *texts: str) -> None:
        for text in texts:
            if not self._takes(text):
                raise NotUnderstoodError(f"{self._peek()} instead of {text}")

    def _name(self) -> str:
        kind, text = self._next()
        if kind != "name":
            raise NotUnderstoodError(f"no name: {text}")
        return text
