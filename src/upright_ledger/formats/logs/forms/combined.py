"""The Common and Combined Log Format."""

from __future__ import annotations

import re
from collections.abc import Sequence

from upright_ledger.core.inventory.noise import AsideClass
from upright_ledger.formats.logs.log_line import (
    MONTHS,
    Likeness,
    LogFormat,
    LogLine,
    NotALineError,
    host_name,
    most,
)

_QUOTED = r'"((?:[^"\\]|\\.)*)"'


_LINE = re.compile(
    r"^(?P<head>[^\"]+)"
    r"\[(?P<day>\d{2})/(?P<month>[A-Z][a-z]{2})/(?P<year>\d{4}):(?P<clock>\d{2}:\d{2}:\d{2}) "
    r"[+-]\d{4}\] "
    rf"{_QUOTED.replace('(', '(?P<request>', 1)} (?P<status>\d{{3}}) (?:\d+|-)"
    rf"(?: {_QUOTED.replace('(', '(?P<referrer>', 1)} {_QUOTED.replace('(', '(?P<agent>', 1)})?",
)


_WORDS_BEFORE_TIME = 3  # client, identity and user; one more is a virtual host in front


def parse_combined(line: str) -> LogLine | str:
    """A line of the Common or Combined Log Format, with or without a virtual host in front."""
    if not line.strip():
        return AsideClass.BLANK
    match = _LINE.match(line)
    if match is None or match["month"] not in MONTHS:
        raise NotALineError("not a line of the Common or Combined Log Format")
    day = f"{match['year']}-{MONTHS[match['month']]}-{match['day']}"
    words = match["head"].split()
    host = words[0] if len(words) > _WORDS_BEFORE_TIME else ""
    second = bool(host) and not {".", ":"}.isdisjoint(words[1])
    client = words[second] if words else ""
    told = (
        match["request"],
        match["status"],
        day,
        match["agent"],
        match["referrer"] or "",
        host_name(host),
    )
    return LogLine(*told, match["clock"], client)


def minutes_ahead(sample: Sequence[str]) -> int:
    """How many minutes the clock of a log is ahead of UTC, by its first line that says so."""
    for line in sample:
        if match := _ZONE.search(line):
            return (60 * int(match[2]) + int(match[3])) * (-1 if match[1] == "-" else 1)
    return 0


_ZONE = re.compile(r":\d\d:\d\d:\d\d ([+-])(\d\d)(\d\d)\] ")


_LOG_LINE = re.compile(r'^(?:\S+ ){3,5}\[\d{2}/[A-Z][a-z]{2}/\d{4}:[\d:]+ [+-]\d{4}\] "')


def _sniff(lines: Sequence[str]) -> Likeness:
    return Likeness.SURE if most(lines, _LOG_LINE.match) else Likeness.NONE


COMBINED = LogFormat(
    _sniff, lambda _sample, _hosts: parse_combined, minutes_ahead, in_columns=True, by_line=True
)
