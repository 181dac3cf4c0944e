"""Families: entries that differ in one part only, under a template such as
/journal/{year}/{month}/{slug}.html.
"""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Mapping, Sequence

FEWEST = 3
"""Entries that make a family."""

_AT_ONCE = 10_000  # keys that are taken apart together
_MANY = 6  # different names beside each other from which on they are taken for one changing part
_YEAR = re.compile(r"(?:19|20)\d\d\Z")
_MONTH = re.compile(r"(?:0?[1-9]|1[0-2])\Z")
_DAY = re.compile(r"(?:0?[1-9]|[12]\d|3[01])\Z")
_ONE_NUMBER = re.compile(r"(\D*)\d+(\D*)\Z")
_ENDING = re.compile(r"(?<=.)\.[a-z][a-z0-9]{0,4}\Z", re.IGNORECASE)


def templates(keys: Sequence[str]) -> dict[str, str]:
    """Entry key → the template of its family; a key without one is left out.

    A key is a folded path with its significant parameters. Works top down, segment by segment:
    names beside each other that are years, months, numbers, or simply many, are one changing part.
    """
    by_length: dict[int, list[str]] = defaultdict(list)
    for key in keys:
        by_length[key.partition("?")[0].count("/")].append(key)
    whole: dict[str, str] = {}
    for length, some in by_length.items():
        paths = _templates_of_length(some, length)
        whole.update(zip(some, map(_with_query, some, paths), strict=True))
    counts = Counter(whole.values())
    alone = {text for text, n in counts.items() if "{" not in text or n < FEWEST}
    for key in [key for key, text in whole.items() if text in alone]:
        del whole[key]
    return whole


def _templates_of_length(keys: Sequence[str], length: int) -> list[str]:
    """The template of the path of each key; all paths have so many segments."""
    groups = [0] * len(keys)
    texts, before = [""], [""]  # of each group, so far, and the last part of it
    for depth, column in enumerate(_columns(keys, length)):
        names: dict[int, dict[str, int]] = defaultdict(dict)
        for (group, name), n in Counter(zip(groups, column, strict=True)).items():
            names[group][name] = n
        numbers: dict[tuple[int, str], int] = {}
        leads: dict[tuple[int, str], int] = {}
        longer: list[str] = []
        lasts: list[str] = []
        for group, its in names.items():
            for name, text in _shapes(its, before[group], last=depth + 1 == length).items():
                number = numbers.setdefault((group, text), len(longer))
                if number == len(longer):
                    longer.append(f"{texts[group]}/{text}")
                    lasts.append(text)
                leads[group, name] = number
        groups = [*map(leads.__getitem__, zip(groups, column, strict=True))]
        texts, before = longer, lasts
    return [*map(texts.__getitem__, groups)]


def _columns(keys: Sequence[str], length: int) -> list[list[str]]:
    """The segments of paths, column by column; of equal ones one is kept."""
    columns: list[list[str]] = [[] for _ in range(length)]
    known: dict[str, str] = {}
    for start in range(0, len(keys), _AT_ONCE):
        rows = (k.partition("?")[0].split("/")[1:] for k in keys[start : start + _AT_ONCE])
        for column, segments in zip(columns, zip(*rows, strict=True), strict=True):
            column.extend(map(known.setdefault, segments, segments))
    return columns


def _shapes(names: Mapping[str, int], before: str, *, last: bool) -> dict[str, str]:
    """Name → what stands for it: itself, or a changing part in braces. names: with their numbers;
    before: what stands for the segment above.
    """
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
        elif one := _ONE_NUMBER.match(name):
            numbered[f"{one[1]}{{number}}{one[2]}"].append(name)
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


def _with_query(key: str, path: str) -> str:
    """The template of a path with the parameters of a key, their values in braces."""
    if "?" not in key:
        return path
    names = [part.partition("=")[0] for part in key.partition("?")[2].split("&")]
    return f"{path}?{'&'.join([f'{n}={{{n}}}' for n in names])}"
