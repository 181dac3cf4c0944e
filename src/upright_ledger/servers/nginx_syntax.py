"""nginx's configuration language, as far as our own files use it: quoting, and reading back.

The reader is written against nginx's rules (ngx_conf_read_token), not against our writer: it is
there to show that no word of a hostile URL ended a quote, a statement or a block.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

_CONTROL = re.compile(r"[\x00-\x08\x0a-\x1f\x7f]")
_ESCAPES = {"t": "\t", "n": "\n", "r": "\r", '"': '"', "'": "'", "\\": "\\"}


def quote(text: str) -> str:
    """A text as one nginx word. Variables in it stay variables; raw control bytes other than tab are refused."""
    if _CONTROL.search(text):
        msg = f"a control byte cannot be written: {text!r}"
        raise ValueError(msg)
    return '"' + _backslashes(text).replace('"', '\\"').replace("\t", "\\t") + '"'


def _backslashes(text: str) -> str:
    return text.replace("\\", "\\\\")


def words(text: str) -> Iterator[str]:
    """The words of a configuration; quoted words begin with a NUL so that they cannot be taken for syntax."""
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
            while at < end and not text[at].isspace() and text[at] not in ";{":
                at += 2 if text[at] == "\\" else 1
            yield text[start:at]


def _quoted(text: str, at: int) -> tuple[str, int]:
    mark, out = text[at], []
    at += 1
    while text[at] != mark:
        if text[at] == "\\" and text[at + 1] in _ESCAPES:
            out.append(_ESCAPES[text[at + 1]])
            at += 2
        else:
            out.append(text[at])
            at += 1
    return "".join(out), at + 1


def read_map_tables(text: str) -> dict[str, dict[str, str]]:
    """Every map of a file: variable name → key → value, and under "" the statements outside maps.

    A statement in a map that is not exactly a key and a value shows up as a key with all its words,
    so that it differs from any honest table.
    """
    tables: dict[str, dict[str, str]] = {}
    statement: list[str] = []
    current: dict[str, str] | None = None
    for word in words(text):
        if word == "{":
            dollar = statement == _DOLLAR_BLOCK
            current = {} if dollar else tables.setdefault(statement[-1].lstrip("\0").removeprefix("$"), {})
            if dollar:
                pass
            elif len(statement) != 3 or statement[0] != "map":
                current["block"] = " ".join(statement)
            statement = []
        elif word == "}":
            current, statement = None, []
        elif word == ";":
            _keep(statement, current, tables)
            statement = []
        else:
            statement.append(word)
    return tables


_EXPECTED_OUTSIDE = frozenset({"map_hash_bucket_size", "map_hash_max_size"})
_DOLLAR_BLOCK = ["geo", "$upright_dollar"]


def _keep(statement: list[str], table: dict[str, str] | None, tables: dict[str, dict[str, str]]) -> None:
    if table is None:
        if statement[0] not in _EXPECTED_OUTSIDE:
            tables.setdefault("", {})[" ".join(statement)] = ""
        return
    if len(statement) == 2:
        key, value = (w.removeprefix("\0") for w in statement)
        if key in table:
            key = f"{key} (again)"
        table[key] = value
    else:
        table[" ".join(statement)] = "not a key and a value"
