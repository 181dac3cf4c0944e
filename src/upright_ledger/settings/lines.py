"""In which line of a TOML file a key stands."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterator

Steps = tuple[str | int, ...]
"""The way to a value: names of tables and keys, numbers within lists."""

_HEADER = re.compile(r"\s*(\[\[?)\s*(.*?)\s*\]\]?\s*(?:#.*)?$")
_KEY = re.compile(r"""\s*((?:[A-Za-z0-9_-]+|"[^"]*"|'[^']*')(?:\s*\.\s*(?:[\w-]+|"[^"]*"))*)\s*=""")
_LONG = re.compile(r'"""|\'\'\'')


def line_of(text: str, steps: Steps) -> int:
    """The line of a key; that of the nearest table where the key itself is not written. 0: none."""
    wanted = steps
    while wanted:
        for number, found in _keys(text):
            if found == wanted:
                return number
        wanted = wanted[:-1]
    return 0


def _keys(text: str) -> Iterator[tuple[int, Steps]]:
    table: Steps = ()
    counts: dict[Steps, int] = {}
    within = False  # a text of several lines
    for number, line in enumerate(text.split("\n"), 1):
        if len(_LONG.findall(line)) % 2:
            within = not within
            if not within:
                continue
        elif within:
            continue
        header, key = _HEADER.match(line), _KEY.match(line)
        if header and not key:
            names = _names(header[2])
            if header[1] == "[[":
                counts[names] = counts.get(names, -1) + 1
                names = (*names, counts[names])
            table = names
            yield number, table
        elif key:
            yield number, (*table, *_names(key[1]))


def _names(written: str) -> Steps:
    """The parts of a key, without their quotes."""
    try:
        held = tomllib.loads(f"{written} = 0")
    except tomllib.TOMLDecodeError:
        return (written,)
    names: list[str | int] = []
    while isinstance(held, dict):
        (name, held), *_ = held.items()
        names.append(name)
    return tuple(names)
