"""Families: entries that differ in one part only, under a template such as
/journal/{year}/{month}/{slug}.html.
"""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Sequence

FEWEST = 3
"""Entries that make a family."""

_MANY = 6  # different names beside each other from which on they are taken for one changing part
_YEAR = re.compile(r"(?:19|20)\d\d\Z")
_MONTH = re.compile(r"(?:0?[1-9]|1[0-2])\Z")
_DAY = re.compile(r"(?:0?[1-9]|[12]\d|3[01])\Z")
_NUMBER = re.compile(r"\d+")
_ENDING = re.compile(r"(?<=.)\.[a-z][a-z0-9]{0,4}\Z", re.IGNORECASE)


def templates(keys: Sequence[str]) -> dict[str, str]:
    """Entry key → the template of its family; a key without one is left out.

    A key is a folded path with its significant parameters. Works top down, segment by segment:
    names beside each other that are years, months, numbers, or simply many, are one changing part.
    """
    rows = [(key, tuple(key.partition("?")[0].split("/")[1:])) for key in keys]
    found: dict[str, str] = {}
    by_length: dict[int, list[tuple[str, tuple[str, ...]]]] = defaultdict(list)
    for row in rows:
        by_length[len(row[1])].append(row)
    for group in by_length.values():
        _descend(group, 0, (), found)
    whole = {key: path + _query(key) for key, path in found.items()}
    counts = Counter(whole.values())
    return {key: text for key, text in whole.items() if "{" in text and counts[text] >= FEWEST}


def _descend(
    rows: list[tuple[str, tuple[str, ...]]],
    depth: int,
    prefix: tuple[str, ...],
    found: dict[str, str],
) -> None:
    """Give every row its template, from the segment at `depth` on."""
    if depth == len(rows[0][1]):
        for key, _ in rows:
            found[key] = "/" + "/".join(prefix)
        return
    names = Counter(parts[depth] for _, parts in rows)
    shape = _shapes(names, prefix, last=depth + 1 == len(rows[0][1]))
    groups: dict[str, list[tuple[str, tuple[str, ...]]]] = defaultdict(list)
    for row in rows:
        groups[shape[row[1][depth]]].append(row)
    for text, group in groups.items():
        _descend(group, depth + 1, (*prefix, text), found)


def _shapes(names: Counter[str], prefix: tuple[str, ...], *, last: bool) -> dict[str, str]:
    """Name → what stands for it: itself, or a changing part in braces."""
    before = prefix[-1] if prefix else ""
    shape: dict[str, str] = {}
    rest: list[str] = []
    numbered: dict[str, list[str]] = defaultdict(list)
    for name in names:
        if _YEAR.match(name):
            shape[name] = "{year}"
        elif before == "{year}" and _MONTH.match(name):
            shape[name] = "{month}"
        elif before == "{month}" and _DAY.match(name):
            shape[name] = "{day}"
        elif len(_NUMBER.findall(name)) == 1:
            numbered[_NUMBER.sub("{number}", name)].append(name)
        else:
            rest.append(name)
    for text, members in _lettered(numbered).items():
        if len(members) >= FEWEST:
            shape |= dict.fromkeys(members, text)
        else:
            rest += members
    endings: dict[str, list[str]] = defaultdict(list)
    for name in rest:
        match = _ENDING.search(name) if last else None
        endings[match[0] if match else ""].append(name)
    for ending, members in endings.items():
        # A folder that holds much is a part of the site, not one of many alike.
        total = sum(names[m] for m in members)
        big = {m for m in members if not last and names[m] >= max(_MANY, total / 20)}
        small = [m for m in members if m not in big]
        changing = len(small) >= _MANY
        shape |= {m: f"{{slug}}{ending}" if changing else m for m in small} | {m: m for m in big}
    return shape


def _lettered(numbered: dict[str, list[str]]) -> dict[str, list[str]]:
    """Codes such as qh17a and qh18b together, as qh{number}{letter}."""
    ends: dict[str, set[str]] = defaultdict(set)
    for text in numbered:
        if text[-1:].isalpha() and text[:-1].endswith("}"):
            ends[text[:-1]].add(text)
    found: dict[str, list[str]] = defaultdict(list)
    for text, members in numbered.items():
        several = len(ends.get(text[:-1], ())) > 1
        found[f"{text[:-1]}{{letter}}" if several else text] += members
    return found


def _query(key: str) -> str:
    """The parameters of a key, their values in braces."""
    _, mark, query = key.partition("?")
    names = [part.partition("=")[0] for part in query.split("&")] if mark else []
    return mark + "&".join(f"{n}={{{n}}}" for n in names)
