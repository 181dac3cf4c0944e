"""Lines that say where an old address goes now: in plain lists, and in the maps of programs."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import NamedTuple

_PLACE = r"(?:https?://[^\s/;]+|/)[^\s;]*"
_LISTED = re.compile(
    rf"\s*(?:(?P<first>30[12378])[ \t]+)?(?P<old>{_PLACE})[ \t]+"
    r"(?P<how>(?:-+>|=+>|\u2192|\u21d2)[ \t]*|)"
    rf"(?P<new>{_PLACE})(?:[ \t]+(?P<status>30[12378]|permanent|temporary))?[ \t]*;?\s*\Z",
    re.IGNORECASE,
)
_QUOTED_PLACE = r"(?:https?://[^\s/;\"']+|/)[^\s;\"']*"
_QUOTED = re.compile(
    rf"\s*([\"'])(?P<old>{_QUOTED_PLACE})\1\s*(?P<how>=>|:)\s*"
    rf"([\"'])(?P<new>{_QUOTED_PLACE})\4\s*,?\s*\Z"
)
_KEYED = re.compile(
    rf"\s*(?P<old>/[^\s:\"']*)(?P<how>:[ \t]|[ \t]*=[ \t])[ \t]*([\"']?)"
    rf"(?P<new>{_QUOTED_PLACE})\3\s*\Z"
)
_FRAME = re.compile(
    r"\s*(?:<\?php|\?>|---|\[[\w .-]{1,100}\]|(?:<\?php[ \t]+)?"
    r"[\w$.\[\]'\" ]{0,100}(?:=|\breturn\b|\bdefault\b|:)?\s*[\[({]|"
    r"[\])}]+(?:\.\w{1,40}(?:\(\))?){0,3}[,;]*|\w[\w-]{0,100}:)(?:\s+(?:#|//).*)?\s*\Z"
)
_STATUSES = {"permanent": 301, "temporary": 302}


class FromTo(NamedTuple):
    """An old path or address, where it goes, and the status of the redirect. how: the arrow or sign
    between them; empty where nothing but a blank stands there.
    """

    old: str
    new: str
    status: int
    how: str


def from_to(line: str) -> FromTo | None:
    """What a line says; None where it says something else."""
    match = _QUOTED.match(line) or _KEYED.match(line) or _LISTED.match(line)
    if match is None:
        return None
    told = match.groupdict()
    status = (told.get("status") or told.get("first") or "301").lower()
    return FromTo(
        told["old"], told["new"], _STATUSES.get(status) or int(status), (told["how"] or "").strip()
    )


def is_frame(line: str) -> bool:
    """Whether a line is what a program writes around its map: a bracket, a name, a comment."""
    text = line.strip()
    return not text or text.startswith(("#", ";", "//")) or bool(_FRAME.match(text))


def are_pairs(lines: Sequence[str]) -> bool:
    """Whether nearly every line is an old path and where it goes now: another path, or a page of
    one of two hosts at most. Pages that link to a path are of many.
    """
    told = [line for line in lines if not is_frame(line)]
    found = [pair for line in told if (pair := from_to(line)) is not None]
    if not found or len(found) < 0.9 * len(told):
        return False
    hosts = {pair.new.split("/")[2] for pair in found if "://" in pair.new}
    return len(hosts) <= 2 and all(pair.old.startswith("/") or pair.how for pair in found)
