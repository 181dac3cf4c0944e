"""What exact rules have in common: the templates of which each may be an instance."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import NamedTuple

from upright_ledger.core.rules.exact_rule import ExactRule
from upright_ledger.core.url.query import QueryPolicy

_PLAIN = re.compile(r"[A-Za-z0-9._~-]+\Z")
_ENDING = re.compile(r"(?<=.)\.[a-z][a-z0-9]{0,4}\Z", re.IGNORECASE)
_PARAMETER = re.compile(r"[a-z][a-z0-9_]{0,30}\Z")
HOLE = "\0"
_WORD = frozenset("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789")
_BEFORE, _BEHIND = _WORD | {"{"}, _WORD | {"}"}
"""What stands at neither end of a word that is one of its own."""


class Candidate(NamedTuple):
    """What some exact rules have in common. source, destination: with holes for list values, or
    captures by name.
    """

    site: str
    source: str
    destination: str
    status: int
    query: QueryPolicy
    is_list: bool = False


def candidates_of(rule: ExactRule, *, bold: bool) -> Iterator[tuple[Candidate, str]]:
    """What an exact rule may be an instance of; of lists, with its value in them."""
    whole = (rule.status, rule.query)
    carried = [c for pieces in _readings(rule.path) if (c := _carried(rule, pieces)) is not None]
    yield from ((Candidate(rule.site, *c, *whole), "") for c in carried)
    if bold and (moved := _folder_moved(rule)) is not None:
        yield Candidate(rule.site, *moved, *whole), ""
    if not carried:
        for source, value in _with_a_hole(rule):
            yield Candidate(rule.site, source, rule.destination, *whole, is_list=True), value


Pieces = tuple[tuple[str, str], ...]
"""A path in pieces: what stands before each (a slash, or another sign within a segment), and its
text; the ending last.
"""


def _readings(path: str) -> Iterator[Pieces]:
    """Ways to take a path apart: by segments; with the numbers that begin the last one apart; with
    its few words apart.
    """
    parts = path.split("/")[1:]
    stem, ending = _stem(parts[-1])
    above = tuple(("/", p) for p in parts[:-1])
    end = (("", ending),)
    yield (*above, ("/", stem), *end)
    if match := re.match(r"((?:[0-9]+[-_.])+)([^0-9].*)\Z", stem):
        yield (*above, *_apart(match[1]), (match[1][-1], match[2]), *end)
    if match := re.match(r"([a-z]+)([0-9]+)\Z", stem):
        yield (*above, (f"/{match[1]}", match[2]), *end)
    words = re.split(r"[-_]", stem)
    if len(words) in {2, 3} and all(re.fullmatch("[a-z0-9]+", w) for w in words):
        yield (*above, *_apart(stem), *end)


def _apart(text: str) -> Iterator[tuple[str, str]]:
    """Words with the sign before each; the first begins a segment."""
    sign = "/"
    for match in re.finditer(r"([a-z0-9]+)([-_.]?)", text):
        yield sign, match[1]
        sign = match[2]


def _carried(rule: ExactRule, pieces: Pieces) -> tuple[str, str] | None:
    """Source and destination with captures for what stands in both; numbers of the path that do not
    are any number.

    None where the destination repeats nothing of the source.
    """
    head, goal = _split(rule.destination)
    *texts, (_, ending) = pieces
    taken: dict[int, str] = {}
    # The longest first, so that "2011" within "clock-2011" is not taken for the year. The first
    # folder stays as it is: it is what tells the family from others.
    order = sorted(range(len(texts)), key=lambda n: (-len(texts[n][1]), n))
    for at in (
        n for n in order if n or len(texts) == 1 or texts[1][0] != "/" or texts[0][1].isdigit()
    ):
        text = texts[at][1]
        found = _find(goal, text) if len(text) > 1 or text.isdigit() else -1
        if found >= 0 and len(taken) < 5:
            taken[at] = f"p{at + 1}"
            goal = f"{goal[:found]}{{p{at + 1}}}{goal[found + len(text) :]}"
    params = ""
    for name, value in rule.params:
        found = _find(goal, value) if _PLAIN.match(value) and _PARAMETER.match(name) else -1
        if found < 0:
            return None
        goal = f"{goal[:found]}{{{name}}}{goal[found + len(value) :]}"
        params += f"{{?{name}{'|digits' if value.isdigit() else ''}}}"
    if not taken and not params:
        return None
    source = ""
    for at, (sign, text) in enumerate(texts):
        # Within a segment a capture must not hold the sign that follows it.
        inner = sign != "/" or (at + 1 < len(texts) and texts[at + 1][0] != "/")
        narrow = (
            "|digits"
            if text.isdigit()
            else "|word"
            if inner and re.fullmatch("[A-Za-z0-9]+", text)
            else ""
        )
        if at in taken:
            source += f"{sign}{{{taken[at]}{narrow}}}"
        else:
            source += sign + (f"{{n{at + 1}|digits}}" if text.isdigit() else text)
    return source + ending + params, head + goal


def _find(goal: str, text: str) -> int:
    """Where a text stands in a destination as a word of its own, or -1. The last one counts:
    folders come first.
    """
    if not _PLAIN.match(text):
        return -1
    last, at = -1, goal.find(text)
    while at >= 0:
        end = at + len(text)
        if goal[at - 1 : at] not in _BEFORE and goal[end : end + 1] not in _BEHIND:
            last, at = at, goal.find(text, end)
        else:
            at = goal.find(text, at + 1)
    return last


def _folder_moved(rule: ExactRule) -> tuple[str, str] | None:
    """A whole folder that moved with all that is below it."""
    head, goal = _split(rule.destination)
    if rule.params or not goal or "?" in goal or "#" in goal:
        return None
    below, there = rule.path, "/" + goal
    old_parts, new_parts = below.strip("/").split("/"), there.strip("/").split("/")
    shared = 0
    while (
        shared < min(len(old_parts), len(new_parts))
        and old_parts[-1 - shared] == new_parts[-1 - shared]
    ):
        shared += 1
    if shared == 0 or shared == len(old_parts) or there.endswith("/") != below.endswith("/"):
        return None
    old, new = "/".join(old_parts[:-shared]), "/".join(new_parts[: len(new_parts) - shared])
    return f"/{old}/{{+rest}}", f"{head}{new}{'/' if new else ''}{{rest}}"


def _with_a_hole(rule: ExactRule) -> Iterator[tuple[str, str]]:
    """A path with one of its names left open, and that name; numbers around it may be any. Or the
    value of its one parameter.
    """
    if rule.params:
        (name, value), *more = rule.params
        if not more and _PLAIN.match(value) and _PARAMETER.match(name):
            yield f"{rule.path}{{?{name}|{HOLE}}}", value
        return
    parts = rule.path.split("/")[1:]
    stems = [(text, "") for text in parts[:-1]] + [_stem(parts[-1])]
    for at, (stem, _) in enumerate(stems):
        if not _PLAIN.match(stem):
            continue
        for loose in (False, True):
            texts = [
                f"{{name|{HOLE}}}{end}"
                if n == at
                else f"{{n{n + 1}|digits}}{end}"
                if loose and t.isdigit()
                else t + end
                for n, (t, end) in enumerate(stems)
            ]
            yield "/" + "/".join(texts), stem


def _split(destination: str) -> tuple[str, str]:
    """Origin with its slash, and the rest."""
    scheme, mark, rest = destination.partition("://")
    host, slash, goal = rest.partition("/")
    return f"{scheme}{mark}{host}{slash}", goal


def _stem(segment: str) -> tuple[str, str]:
    match = _ENDING.search(segment)
    return (segment[: match.start()], match[0]) if match else (segment, "")
